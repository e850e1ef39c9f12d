"""What a rendition is called, and what happens when two would be called the same."""
