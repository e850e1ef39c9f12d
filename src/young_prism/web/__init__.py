"""The pages: one blueprint a stop on the path, each with its routes, templates and scripts in one folder."""
