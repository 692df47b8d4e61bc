"""What every app stands on: keys, problem details, pages, strict serializers. Imports no app."""
