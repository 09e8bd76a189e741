"""Deliveries of many clips onto many rigs: what is asked for, what each file takes, and the workers that make them."""
