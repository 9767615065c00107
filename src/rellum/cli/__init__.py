"""The command line: parse, call one action, render."""
