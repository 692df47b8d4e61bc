"""What parameters, date phrases and calendars mean: the moments and values of a run."""
