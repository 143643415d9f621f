"""Distribution functions, roots and quadrature: thin, vectorised, right in both tails."""
