"""A project: its loads and stores, and what can be done with them."""

from plainstep.project.project import Project

__all__ = ["Project"]
