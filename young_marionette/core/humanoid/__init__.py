"""Reading a body out of a bare skeleton: which joint is what, and which way the figure stands."""
