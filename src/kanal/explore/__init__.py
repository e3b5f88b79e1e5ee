"""Before and after a run: tables and samples, drafts, checks, comparison and lineage."""
