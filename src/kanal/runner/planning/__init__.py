"""Compiles jobs and checks them against their databases."""
