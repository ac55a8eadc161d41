"""What every kind of thing shares: lines, level rules, faces, reasons, findings, descriptions, and what a kind is."""
