"""Pages and the HTTP interface. Nothing is computed here."""
