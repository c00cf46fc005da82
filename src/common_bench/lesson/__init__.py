"""A lesson as it is held: book, engine, work-up and pool under one roof, without a window."""
