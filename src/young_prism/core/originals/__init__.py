"""What a file is: type by content, header facts, and the kind of picture by its pixels."""
