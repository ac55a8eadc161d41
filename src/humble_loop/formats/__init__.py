"""Reading and writing open formats, one module each, and the site file itself."""
