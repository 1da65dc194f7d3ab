"""Who hides whom in a mix: a model of loudness in the presence of others, clashes, and what answers them."""
