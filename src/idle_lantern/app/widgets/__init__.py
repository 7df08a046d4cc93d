"""Widgets shared by the stages."""
