"""SQL databases: common parts, and how each database differs."""
