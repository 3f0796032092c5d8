"""Regular motifs: their lattice, grid, stripes and beat."""
