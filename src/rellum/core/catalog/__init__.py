"""Game sheets and cards: what they hold, and how they are read with every fault located."""
