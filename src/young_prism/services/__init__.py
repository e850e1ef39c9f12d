"""The application without HTTP: use cases on top of engine and store."""
