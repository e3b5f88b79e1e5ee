"""Files of a folder as tables."""
