"""Humble Loop: residential streets, turning heads, kerb levels and lots."""

__version__ = "0.1.0"
