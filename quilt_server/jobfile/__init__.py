"""A job as a file: all that a project decides, to be done again on other days and other files. `model` says what may stand in it, `text` reads and writes it, `who` finds
what a rule is for, `saving` makes one of a project, `setting` makes settings of one, `engine` does it."""
