"""A site with its project file: configuration, check and rewrite."""
