"""A recipe's value objects, its TOML form, validation and JSON Schema."""
