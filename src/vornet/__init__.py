"""Vornet: used-oil trends, verdicts and drain intervals."""

__version__ = "0.1.0"
