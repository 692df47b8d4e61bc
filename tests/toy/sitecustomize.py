"""On the path of a service under test: one more engine, with a language of its own."""

from toy import ENGINE, TOY

from patient_ladle.adapters import sources
from patient_ladle.core.statements import languages

sources.ENGINES[ENGINE.name] = ENGINE
languages.LANGUAGES[TOY.name] = TOY
