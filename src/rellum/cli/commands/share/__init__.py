"""Share: press archives, publish the pack, follow another's."""
