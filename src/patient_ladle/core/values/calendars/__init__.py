"""When a schedule wants its runs: rules in words or crontab fields, in a time zone, with holidays and exceptions.

``days`` says which dates a rule names, ``reading`` makes a rule of its text, ``clock`` puts wall times on the line of
time, ``holidays`` holds days on which nobody works, ``timing`` joins them into moments. Pure: no clock is asked here.
"""
