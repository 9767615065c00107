"""Results as tables, sentences, documents and figures: one module for each command that shows something."""
