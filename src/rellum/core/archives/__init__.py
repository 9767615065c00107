"""Reading archives of every kind: hostile until checked, and then member by member."""
