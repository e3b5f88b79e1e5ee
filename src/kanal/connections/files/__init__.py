"""Files and folders as tables."""
