"""Reaching devices."""
