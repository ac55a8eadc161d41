"""The query engine: results that know what they rest on. No word of streets."""
