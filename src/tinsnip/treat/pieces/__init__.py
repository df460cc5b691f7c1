"""Treatments over several pieces."""
