"""Fern Field: shape large outdoor worlds, try them on foot, hand them over as open files."""

__version__ = "0.1.0"
