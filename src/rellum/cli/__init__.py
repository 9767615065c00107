"""The command line: parse the options, call one action, show its result."""
