"""Made-up surfaces of the lightship Skerry Light, photographed by made-up cameras, with the truth kept."""
