"""The formula language: grammar, checking, evaluation over blocks, events."""
