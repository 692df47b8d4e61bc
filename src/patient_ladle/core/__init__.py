"""The job itself: no web framework, no HTTP, no argument parser and no database driver is imported below here.

Leaves first (errors, names, values, ports), then the families (formats), then decisions (due times, file names),
then the engine that runs one extract.
"""
