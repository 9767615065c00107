"""Everything Rellum knows and does, without any interface: it prints nothing and asks nobody."""
