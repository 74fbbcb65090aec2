"""The web application's server: projects, jobs and files. No computation of its own."""
