"""What only the whole site has: its surface, findings, tables, set-out, reasons, and what is delivered to writers."""
