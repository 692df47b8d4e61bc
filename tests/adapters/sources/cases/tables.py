"""The rows that every engine's tables hold."""

DISTRICTS = [(1, "Alder Moor", "North"), (2, "Birch Fen", "South"), (3, 'Heron "Holt", old', None)]
