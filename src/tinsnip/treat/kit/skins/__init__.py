"""Surfaces made anew round a part, or at a distance from one."""
