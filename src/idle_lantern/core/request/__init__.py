"""What is asked of a join: choices and how the engine runs; the names of what was kept by them."""
