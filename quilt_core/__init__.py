"""The computation of Untold Quilt: islands, density, packing, proof. Arrays in, arrays out."""
