"""When something breaks: look, bring back, go back, take over."""
