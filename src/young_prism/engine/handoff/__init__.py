"""Hand-off of a build: package, deployment, storage."""
