"""What is said of a layout when it leaves: the verdict, the report and its page."""
