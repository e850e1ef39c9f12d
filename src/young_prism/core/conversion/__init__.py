"""One picture turned into a few files, without a source, a recipe or a folder."""
