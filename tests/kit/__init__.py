"""Small made-up files with one property each, and a viewer of the tests' own that says what their surface looks like: it shares no code with the program."""
