"""Turns a job into a plan: what it reads, computes and writes, compiled and checked against its connections."""
