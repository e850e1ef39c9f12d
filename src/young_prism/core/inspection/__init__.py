"""All facts of an original, from its header and, where needed, its pixels."""
