"""How a part lies in space."""
