"""The document: what the designer decided, and edits to it. Nothing worked out is stored here."""
