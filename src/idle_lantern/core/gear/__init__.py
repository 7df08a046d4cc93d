"""What the photographer owns: cameras, lenses, heads, filters, cards, and how they went together before."""
