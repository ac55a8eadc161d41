"""DXF: drawings in and out."""
