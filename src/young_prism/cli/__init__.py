"""The command: one module a verb. Verbs are imported when they are called, so that `--help` is quick."""
