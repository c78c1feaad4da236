"""Matching a field and probing pipelines, as jobs with records."""
