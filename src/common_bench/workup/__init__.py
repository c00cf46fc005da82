"""Spans and findings."""
