"""Uploads: receive, process, undo, permissions, and the schemas of the answers."""
