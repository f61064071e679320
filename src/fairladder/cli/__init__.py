"""The command line: one file a command, thin: parse, call, print."""
