"""The command line: ``ladle NOUN VERB``. It reaches the service through the client library only."""
