"""Fennmoor Water, a made-up water utility: generated data, extracts and schedules to try everything on."""
