"""The command line: thin. Options, one file a command, and drawing on the terminal."""
