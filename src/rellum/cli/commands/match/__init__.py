"""Match: choose releases that go together."""
