"""Files: opening, writing whole, kinds, archives, untrusted documents, tables, locations, the rule of outputs."""
