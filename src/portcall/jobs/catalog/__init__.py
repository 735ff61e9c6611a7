"""Descriptions that devices carry."""
