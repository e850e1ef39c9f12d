"""Small programs for working on the project."""
