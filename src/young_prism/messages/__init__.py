"""What people read when something goes wrong: every sentence with its remedy, one module for each subject.

The sentences lie together so that they can be reviewed together, in one voice: what happened, then what to do. The
file is named by the error, not by the sentence.
"""
