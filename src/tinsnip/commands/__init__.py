"""What can be done without the window, one module a group of commands."""
