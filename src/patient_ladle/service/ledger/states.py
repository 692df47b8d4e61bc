"""The states of a run, of its delivery, and of what a guard holds back: three tables, and every change goes through them.

waiting → queued → running → finished | failed | cancelled; running → waiting when it is tried again, → queued when its
worker is lost or stopped; waiting → not run when what it waits for has failed; waiting → failed when an input of its own has.

A finished run's result is stored and proven; its delivery has a state of its own, nothing where none was wanted.
"""

from __future__ import annotations

from patient_ladle.core.runs.state_tables import Fields, Move, StateTable

WAITING, QUEUED, RUNNING, FINISHED, FAILED, CANCELLED = "waiting", "queued", "running", "finished", "failed", "cancelled"
NOT_RUN = "not_run"
STATES = (WAITING, QUEUED, RUNNING, FINISHED, FAILED, CANCELLED, NOT_RUN)
ENDED = (FINISHED, FAILED, CANCELLED, NOT_RUN)
LIVE = (WAITING, QUEUED, RUNNING)

_QUEUE = {"waits_for": "", "wait_until": None, "not_before": None}
_NO_WORKER = {"worker": None, "stage": ""}
_FRESH: dict[str, object] = {"stage": "", "stages": [], "rows": None, "bytes_read": None}

RUN = StateTable(
    "run",
    "state",
    first=(WAITING, QUEUED),
    states={
        WAITING: Fields(filled=("wait_until",), empty=("ended_at", "publishing")),
        QUEUED: Fields(empty=("ended_at", "wait_until", "publishing")),
        RUNNING: Fields(filled=("started_at",), empty=("ended_at", "wait_until")),
        FINISHED: Fields(filled=("started_at", "ended_at"), empty=("wait_until", "error")),
        FAILED: Fields(filled=("ended_at", "error"), empty=("wait_until", "publishing")),
        CANCELLED: Fields(filled=("ended_at",), empty=("wait_until", "publishing")),
        NOT_RUN: Fields(filled=("ended_at", "error"), empty=("wait_until", "publishing")),
    },
    moves=(
        Move("queue", (WAITING,), QUEUED, ("queue_order",), _QUEUE),
        Move("leave the queue", (QUEUED,), WAITING, ("wait_until",)),
        Move("claim", (QUEUED,), RUNNING, ("worker", "attempt", "started_at"), _FRESH),
        Move("hand back", (RUNNING,), QUEUED, (), _NO_WORKER),
        Move("try again", (RUNNING,), WAITING, ("error", "not_before", "wait_until", "waits_for"), _NO_WORKER),
        Move("finish", (RUNNING,), FINISHED, ("ended_at",), {"error": None, "publishing": None}),
        Move("fail", (RUNNING,), FAILED, ("error", "ended_at")),
        Move("cancel", (WAITING, QUEUED, RUNNING), CANCELLED, ("ended_at",), _QUEUE),
        Move("lose an input", (WAITING,), FAILED, ("error", "ended_at"), _QUEUE),
        Move("give up", (WAITING,), NOT_RUN, ("error", "ended_at"), _QUEUE),
    ),
)

TO_DELIVER, UNDER_WAY, DELIVERED, DELIVERY_FAILED, LEFT = "waiting", "in_progress", "delivered", "failed", "left"
DELIVERIES = (TO_DELIVER, UNDER_WAY, DELIVERED, DELIVERY_FAILED, LEFT)
"""What has become of a finished run's delivery; nothing where none was wanted, or a guard holds it."""
DELIVERY_OPEN = (TO_DELIVER, UNDER_WAY, DELIVERY_FAILED)

_OVER = {"deliver_at": None, "publishing": None}

DELIVERY = StateTable(
    "delivery of run",
    "delivery",
    first=("",),
    states={
        "": Fields(empty=("delivery_error", "deliver_at")),
        TO_DELIVER: Fields(filled=("delivery_plan", "deliver_at", "deliver_until"), empty=("publishing",)),
        UNDER_WAY: Fields(filled=("delivery_plan", "deliver_until")),
        DELIVERED: Fields(empty=("delivery_plan", "delivery_error", "deliver_at", "publishing")),
        DELIVERY_FAILED: Fields(filled=("delivery_plan", "delivery_error"), empty=("deliver_at", "publishing")),
        LEFT: Fields(filled=("delivery_plan",), empty=("deliver_at", "publishing")),
    },
    moves=(
        Move("ask for", ("", TO_DELIVER, DELIVERY_FAILED), TO_DELIVER, ("delivery_plan", "deliver_at", "deliver_until"),
             {"delivery_error": None}),
        Move("claim", (TO_DELIVER,), UNDER_WAY, ("deliverer", "delivery_attempts")),
        Move("hand back", (UNDER_WAY,), TO_DELIVER, ("deliver_at",), {"deliverer": None, "publishing": None}),
        Move("deliver", ("", UNDER_WAY), DELIVERED, (), {**_OVER, "delivery_plan": None, "delivery_error": None}),
        Move("try again", ("", UNDER_WAY), TO_DELIVER, ("delivery_plan", "delivery_error", "deliver_at", "deliver_until"),
             {"publishing": None}),
        Move("fail", ("", *DELIVERY_OPEN), DELIVERY_FAILED, ("delivery_plan", "delivery_error"), _OVER),
        Move("leave", (TO_DELIVER, DELIVERY_FAILED), LEFT, (), _OVER),
    ),
)  # fmt: skip

HELD, RELEASED, REJECTED = "held", "released", "rejected"
NOT_DELIVERED = (HELD, REJECTED)
"""Of finished runs whose files are not to be taken for results."""

HOLD = StateTable(
    "result of run",
    "held",
    first=("",),
    states={"": Fields(), HELD: Fields(), RELEASED: Fields(), REJECTED: Fields(empty=("delivery_plan",))},
    moves=(
        Move("hold", ("",), HELD, ("delivery_plan",)),
        Move("release", (HELD,), RELEASED, ("held_by", "held_note")),
        Move("reject", (HELD,), REJECTED, ("held_by", "held_note"), {"delivery_plan": None}),
    ),
)
