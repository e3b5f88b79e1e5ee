"""SQL databases: what all of them share, and a module for each that says how it differs."""
