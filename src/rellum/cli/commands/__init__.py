"""One file a command. Heavy imports stand inside the functions, so that starting stays fast."""
