"""Commands of document stores, written as JSON: read with their places, judged, and given their values."""
