"""Where proven results go: one member a kind of target."""
