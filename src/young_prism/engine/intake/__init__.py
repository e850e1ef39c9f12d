"""New originals: inbox, archives, watched folders, and quick first renditions."""
