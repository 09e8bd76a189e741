"""Deliveries in the window: the table of files, what runs, recipes, and watched folders."""
