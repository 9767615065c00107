"""One module for each thing a curator does: it wires the stages together and returns a result."""
