"""The command line. One file per command: parse, call, print."""
