"""The local store of archives: checking, recognising, keeping and reading them."""
