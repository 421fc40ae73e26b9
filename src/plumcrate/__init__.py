"""Plum Crate makes a content-management system's media library light, and keeps it light."""

__version__ = "0.1.0"
