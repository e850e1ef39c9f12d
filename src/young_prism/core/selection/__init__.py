"""What people say about a source: which files belong to it, and the text of each image."""
