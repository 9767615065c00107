"""When something breaks: check, restore, go back, absorb."""
