"""Datums: what a part is measured from; forms that are fitted to it, made from these, and brought to the axes."""
