"""Unsaved work, kept for its author alone, on whatever machine they go on with it.

Rules and theory
----------------
* One draft of each person for each extract, and any number for texts that are no extracts yet, each under a key that its
  editor has chosen. Nobody else sees them, an administrator neither.
* Each write names the version that it goes on from: of two windows of one person, the second is told that the first has
  written, and asks which of the two to keep. Nothing is overwritten unseen.
* What is saved as a revision is no draft any more; what somebody else saved meanwhile leaves the draft where it is.
* The whole of it is encrypted: defaults of sensitive parameters may stand in it.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from django.db import transaction
from django.db.models import Q

from patient_ladle.core.errors import BadInput, Conflict, EditedMeanwhile, NotFound
from patient_ladle.service.common.fields import UnreadableSecret
from patient_ladle.service.people.models import Person

from .models import Draft, Extract

MOST = 200
"""Drafts of one person."""
MOST_CHARACTERS = 600_000
"""Of one draft: a statement has 262,144 at most."""


def drafts_of(person: Person) -> list[Draft]:
    """The newest first."""
    return list(Draft.objects.filter(person=person).select_related("extract"))


def draft_of(person: Person, extract: Extract | None, key: str = "") -> Draft:
    """The draft of an extract, else the one of that key; one that is not kept yet where there is none."""
    found = Draft.objects.filter(person=person, extract=extract, key=key).first()
    return found or Draft(person=person, extract=extract, key=key, version=0, content="")


def content_of(draft: Draft) -> dict[str, Any] | None:
    """What was kept; None where nothing is, or where it cannot be decrypted with the keys of this service."""
    if not draft.content or isinstance(draft.content, UnreadableSecret):
        return None
    found: dict[str, Any] = json.loads(draft.content)
    return found


@transaction.atomic
def keep_draft(
    person: Person, extract: Extract | None, key: str, version: int, base: int | None, content: Mapping[str, Any]
) -> Draft:
    """Written on top of ``version``, 0 where there was none. Raises BadInput, Conflict, EditedMeanwhile."""
    text = json.dumps(content, ensure_ascii=False)
    if len(text) > MOST_CHARACTERS:
        raise BadInput(f"a draft may have {MOST_CHARACTERS:,} characters; this has {len(text):,}.", "Shorten the statement.")
    Person.objects.select_for_update().get(pk=person.pk)  # of two windows one writes after the other
    draft = draft_of(person, extract, key)
    if draft.version != version:
        raise _written_elsewhere(draft)
    if draft.pk is None and Draft.objects.filter(person=person).count() >= MOST:
        raise Conflict(f"you have {MOST} drafts.", "Save or drop some of them: ladle draft list.")
    draft.version, draft.base, draft.content = version + 1, base, text
    draft.save()
    return draft


@transaction.atomic
def drop_draft(person: Person, extract: Extract | None, key: str = "", version: int | None = None) -> None:
    """It is gone; with a ``version`` only where it is that one. Raises EditedMeanwhile, NotFound."""
    found = Draft.objects.select_for_update().filter(person=person, extract=extract, key=key).first()
    if found is None:
        of = f"of '{extract.name}'" if extract else f"'{key}'"
        raise NotFound(f"you have no draft {of}.", "List them: ladle draft list.")
    if version is not None and found.version != version:
        raise _written_elsewhere(found)
    found.delete()


def _written_elsewhere(draft: Draft) -> EditedMeanwhile:
    words = "this draft was changed in another window of yours."
    return EditedMeanwhile(words, "Take that one, or keep yours on top of it.", version=draft.version)


def saved(person: Person, extract: Extract) -> None:
    """Drafts of the person whose statement is the extract's own now: of it, or of the new text that has become it."""
    statement = extract.head.statement
    for draft in Draft.objects.filter(Q(extract=extract) | Q(extract=None), person=person):
        content = content_of(draft) or {}
        named = draft.extract_id is not None or content.get("name") == extract.name
        if named and content.get("statement") == statement:
            draft.delete()
