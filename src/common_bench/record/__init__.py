"""Rules, runs, the journal, and the engine that drives the flow."""
