"""Mouse tools, one module each."""
