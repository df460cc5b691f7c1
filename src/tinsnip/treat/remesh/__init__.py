"""Surface with even triangles: splits, collapses, flips and shifts within it."""
