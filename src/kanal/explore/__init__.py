"""Looks around: connections, tables, samples; drafts jobs; checks beforehand and compares afterwards."""
