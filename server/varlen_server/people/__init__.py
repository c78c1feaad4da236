"""People, what they may do, their programs' tokens, and the log of who did what."""
