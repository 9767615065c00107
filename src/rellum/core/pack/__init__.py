"""What the curator keeps: rellum.toml, rellum.lock, and the state of the pack in .rellum/."""
