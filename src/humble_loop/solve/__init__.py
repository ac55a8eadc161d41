"""The working-out: one module per kind of thing, the query engine, and the level trail."""
