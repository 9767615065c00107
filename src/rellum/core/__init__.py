"""Everything Rellum knows and does, without an interface: it never prints and never asks."""
