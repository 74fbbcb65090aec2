"""The command line: the same core as the web application, without a browser."""
