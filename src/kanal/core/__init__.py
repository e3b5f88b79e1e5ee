"""The core: computes on Arrow batches; knows no database, file or interface."""
