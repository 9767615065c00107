"""How versions compare, and ranges as sets of intervals."""
