"""The build: plan what changed, render it, deliver it, write the manifest."""
