"""Result files: formats, each owning all of itself, compression, names, options, the descriptor."""
