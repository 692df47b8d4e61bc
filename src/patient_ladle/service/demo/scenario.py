"""What stands in Fennmoor Water's repository: extracts and schedules, as an author there would have written them."""

from __future__ import annotations

from datetime import time
from typing import Any

EXTRACTS: list[dict[str, Any]] = [
    {
        "name": "monthly_consumption",
        "folder": "regulation",
        "source": "metering",
        "formats": ["csv", "xlsx"],
        "deliver_into": "regulator",
        "file_name": "consumption-{environment}-{data_date:%Y-%m}",
        "output": {
            "formats": {
                "csv": {"encoding": "utf-8-bom", "line_ending": "crlf", "escape_formulas": True},
                "xlsx": {
                    "title_rows": ["Fennmoor Water: consumption by district", "Data date {data_date:%d %B %Y}, {environment}"]
                },
            },
            "columns": [
                "district",
                {"name": "zone", "as": "region"},
                "meters",
                {"name": "cubic_metres", "pattern": "#,##0.000"},
                "litres_a_day",
            ],
        },
        "notes": "Consumption by district in the month before the data date. Goes to the regulator on the 1st.",
        "statement": """-- consumption by district, the whole month before the data date
select d.name as district, d.zone,
       count(distinct m.meter_id) as meters,
       round(sum(r.litres) / 1000.0, 3) as cubic_metres,
       round(avg(r.litres), 1) as litres_a_day,
       count(*) filter (where r.estimated) as estimated_readings
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
join districts d using (district_id)
where r.read_at >= date_trunc('month', :data_date) - interval '1 month'
  and r.read_at < date_trunc('month', :data_date)
  and (:zone is null or d.zone = :zone)
group by d.district_id, d.name, d.zone
order by d.name
""",
        "parameters": [
            {
                "name": "zone",
                "type": "text",
                "required": False,
                "allowed": ["North", "South", "Coast"],
                "note": "One zone, or all.",
            }
        ],
    },
    {
        "name": "district_review",
        "folder": "metering",
        "source": "metering",
        "formats": ["csv", "xlsx"],
        "tags": ["monthly"],
        "notes": "Two statements, **one snapshot**:\n\n1. premises and meters of each district\n2. what they used, month by month",
        "statement": """-- Premises and meters
select d.name as district, count(distinct p.premise_id) as premises, count(m.meter_id) as meters
from districts d
join premises p using (district_id)
left join meters m using (premise_id)
where d.zone = any(:zones)
group by d.district_id, d.name
order by d.name;

-- Use by month
select d.name as district, date_trunc('month', r.read_at)::date as month, round(sum(r.litres) / 1000.0, 3) as cubic_metres
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
join districts d using (district_id)
where d.zone = any(:zones) and r.read_at >= :since
group by d.district_id, d.name, 2
order by d.name, 2
""",
        "parameters": [
            {
                "name": "zones",
                "type": "text",
                "is_list": True,
                "default": ["North", "South", "Coast"],
                "allowed": ["North", "South", "Coast"],
            },
            {"name": "since", "type": "date", "default": "start of last quarter", "maximum": "today"},
        ],
    },
    {
        "name": "all_readings",
        "folder": "metering",
        "source": "metering",
        "formats": ["csv"],
        "notes": "Every reading there is: half a million rows in live.",
        "statement": """select r.reading_id, m.serial, d.name as district, r.read_at, r.index_m3, r.litres, r.estimated, r.note
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
join districts d using (district_id)
order by r.reading_id
""",
    },
    {
        "name": "estimated_readings",
        "folder": "metering",
        "source": "metering",
        "formats": ["xlsx"],
        "notes": "Meters whose readings were estimated too often: somebody should call.",
        "statement": """select m.serial, p.address, d.name as district,
       count(*) filter (where r.estimated) as estimated, count(*) as readings,
       max(r.read_at) filter (where not r.estimated) as last_true_reading
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
join districts d using (district_id)
where r.read_at >= :since and d.zone = any(:zones)
group by m.meter_id, m.serial, p.address, d.name
having count(*) filter (where r.estimated) >= :at_least
order by estimated desc, m.serial
""",
        "parameters": [
            {"name": "since", "type": "date", "default": "start of last month", "note": "First day looked at."},
            {
                "name": "zones",
                "type": "text",
                "is_list": True,
                "default": ["North", "South", "Coast"],
                "allowed": ["North", "South", "Coast"],
            },
            {
                "name": "at_least",
                "type": "integer",
                "shared": "estimates_before_a_visit",
                "minimum": 1,
                "note": "Estimates before a meter is listed.",
            },
        ],
    },
    {
        "name": "high_users",
        "folder": "metering",
        "source": "metering",
        "formats": ["csv", "json"],
        "notes": "Days on which a meter ran above the given litres; occupied premises only if asked.",
        "statement": """select m.serial, p.address, d.name as district, r.read_at, r.litres
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
join districts d using (district_id)
where r.litres > :above and (p.occupied or not :occupied_only)
order by r.litres desc, r.read_at, m.serial
""",
        "parameters": [
            {"name": "above", "type": "decimal", "default": "4000"},
            {"name": "occupied_only", "type": "boolean", "default": False},
        ],
    },
    {
        "name": "limit_exceedances",
        "folder": "regulation/water quality",
        "source": "laboratory",
        "formats": ["csv", "xlsx", "json"],
        "deliver_into": "water-quality",
        "file_name": "exceedances-{environment}-{data_date}",
        "notes": "Results above their limit in the thirty days before the data date.",
        "statement": """select s.sample_id, s.taken_at, p.name as sample_point, p.zone,
       d.name as determinand, r.value, d.unit, d.limit_value
from results r
join samples s on s.sample_id = r.sample_id
join sample_points p on p.point_id = s.point_id
join determinands d on d.code = r.code
where r.value > d.limit_value
  and s.taken_at >= date(:data_date, '-30 days') and s.taken_at < date(:data_date)
  and d.code in :determinands
order by s.taken_at, s.sample_id, d.code
""",
        "parameters": [
            {
                "name": "determinands",
                "type": "text",
                "is_list": True,
                "default": ["CL2", "TURB", "PB", "NO3", "FE", "MN", "ECOLI", "PH"],
                "lookup": {"name": "limits", "label": "determinand"},
            }
        ],
    },
    {
        "name": "samples_by_point",
        "folder": "regulation/water quality",
        "source": "laboratory",
        "formats": ["csv"],
        "deliver_into": "water-quality",
        "file_name": "samples-{environment}-{data_date}",
        "guards": [{"guard": "rows", "at_least": 60}],
        "notes": "How many samples each point gave, and when the last one was taken. There are 60 points: a shorter list is held"
        " back until somebody has seen why.",
        "statement": """select p.name, p.zone, p.kind, count(*) as samples, max(s.taken_at) as last_taken
from sample_points p left join samples s on s.point_id = p.point_id
group by p.point_id order by p.name
""",
    },
    {
        "name": "old_repairs",
        "folder": "network",
        "source": "works",
        "formats": ["xlsx", "csv"],
        "deliver_into": "works",
        "file_name": "repairs-{environment}-{data_date}",
        "notes": "Repairs that were opened more than so many days before the data date and are still open.",
        "statement": """select o.order_id, o.opened_at, datediff(:data_date, o.opened_at) as days_open, d.name as district, c.name as crew,
       o.kind, o.note
from work_orders o
join districts d on d.district_id = o.district_id
left join crews c on c.crew_id = o.crew_id
where o.closed_at is null and o.opened_at < :data_date - interval :days day
  and o.kind in :kinds and (:crew is null or o.crew_id = :crew)
order by o.opened_at, o.order_id
""",
        "tags": ["weekly"],
        "parameters": [
            {
                "name": "crew",
                "type": "integer",
                "required": False,
                "choices": {"source": "works", "statement": "select crew_id, name from crews order by name"},
                "note": "One crew, or all.",
            },
            {"name": "days", "type": "integer", "default": 7, "note": "Five working days are seven by the calendar."},
            {
                "name": "kinds",
                "type": "text",
                "is_list": True,
                "default": ["burst", "leak"],
                "allowed": ["burst", "leak", "meter", "valve"],
            },
        ],
    },
    {
        "name": "night_flow",
        "folder": "network",
        "source": "telemetry",
        "formats": ["csv"],
        "notes": "Mean flow between two and four at night: what runs then mostly leaks.",
        "statement": """select district, cast(measured_at as date) as night, round(avg(litres_a_second), 2) as litres_a_second,
       min(litres_a_second) as least, count(*) as readings
from flow
where hour(measured_at) between 2 and 3 and measured_at >= :nights_from and measured_at < :nights_to + interval 1 day
group by all
order by district, night
""",
        "parameters": [
            {"name": "nights", "type": "period", "default": "today - 14 days to yesterday", "note": "First and last night."}
        ],
    },
    {
        "name": "low_pressure",
        "folder": "network",
        "source": "telemetry",
        "formats": ["csv", "json"],
        "notes": "Loggers whose pressure fell below the standard of service.",
        "statement": """select logger, district, measured_at, metres_head
from pressure
where metres_head < :standard
order by measured_at, logger
""",
        "parameters": [
            {
                "name": "standard",
                "type": "decimal",
                "shared": "pressure_standard",
                "minimum": "0",
                "note": "Metres head at the stop tap.",
            }
        ],
    },
    {
        "name": "chlorine_residual",
        "folder": "regulation/water quality",
        "source": "laboratory",
        "formats": ["csv"],
        "notes": "Fails since the laboratory renamed a column: the run log says which.",
        "statement": """select s.taken_at, p.name as sample_point, r.result_mgl
from results r
join samples s on s.sample_id = r.sample_id
join sample_points p on p.point_id = s.point_id
where r.code = 'CL2' and s.taken_at >= date(:data_date, '-7 days')
order by s.taken_at
""",
    },
    {
        "name": "open_contacts",
        "folder": "customers",
        "source": "contacts",
        "formats": ["csv", "xlsx"],
        "notes": "Contacts that nobody has closed, the most urgent first. One line a contact; the address in columns of its own.",
        "statement": """// Open contacts, the most urgent first
{"find": "contacts_open",
 "filter": {"topic": {"$in": :topics}, "priority": {"$lte": :priority}},
 "projection": {"contact": 1, "priority": 1, "received_at": 1, "topic": 1, "channel": 1, "customer.account": 1,
                "customer.name": 1, "customer.address": 1, "refund": 1, "assigned_to": 1, "note": 1},
 "sort": {"priority": 1, "received_at": 1}}
""",
        "parameters": [
            {
                "name": "topics",
                "type": "text",
                "is_list": True,
                "default": ["leak", "pressure", "taste"],
                "allowed": ["leak", "bill", "pressure", "taste", "meter", "moving"],
            },
            {"name": "priority", "type": "integer", "default": 2, "minimum": 1, "maximum": 3, "note": "1 is the most urgent."},
        ],
    },
    {
        "name": "contacts_by_topic",
        "folder": "customers",
        "source": "contacts",
        "formats": ["csv"],
        "notes": "How many contacts a topic had in each channel, in the collection of one month.",
        "statement": """// By topic and channel
{"aggregate": :collection,
 "pipeline": [
   {"$group": {"_id": {"topic": "$topic", "channel": "$channel"}, "contacts": {"$sum": 1}, "last": {"$max": "$received_at"}}},
   {"$sort": {"contacts": -1, "_id.topic": 1, "_id.channel": 1}},
   {"$project": {"_id": 0, "topic": "$_id.topic", "channel": "$_id.channel", "contacts": 1, "last": 1}}
 ]}
""",
        "parameters": [
            {
                "name": "collection",
                "type": "text",
                "default": "contacts_open",
                "pattern": "contacts_([0-9]{4}_[0-9]{2}|open)",
                "note": "contacts_2026_11, or contacts_open.",
            }
        ],
    },
    {
        "name": "calls",
        "folder": "customers",
        "source": "contacts",
        "formats": ["csv", "jsonl"],
        "output": {"documents": {"rows_of": "calls"}},
        "notes": "One row for each call about an open contact: `calls` is a list in the documents.",
        "statement": """// Calls about open contacts
{"find": "contacts_open",
 "filter": {"channel": "phone"},
 "projection": {"contact": 1, "calls": 1, "minutes": 1},
 "sort": {"contact": 1}}
""",
    },
]

_PLACES = ("north shore", "river side", "old harbour", "the moors", "east bank", "fen edge")
_MANAGERS = ("Ada Thorne", "Ben Quill", "Cara Marsh", "Dev Yarrow")
_NAMES = ("Alder", "Birch", "Cowslip", "Dunlin", "Eyot", "Fescue", "Gorse", "Heron")
LOOKUPS: list[dict[str, Any]] = [
    {
        "name": "districts",
        "note": "How readers of reports know the districts, and who answers for each.",
        "columns": ["district_id", "title", "manager"],
        "rows": [
            [n, f"{_NAMES[(n - 1) % 8]} {('Moor', 'Fen', 'Holt')[(n - 1) // 8]} ({_PLACES[n % 6]})", _MANAGERS[n % 4]]
            for n in range(1, 25)
        ],
    },
    {
        "name": "limits",
        "note": "Limits by determinand, and the value at which somebody acts before one is met.",
        "columns": ["code", "determinand", "unit", "limit", "act_at"],
        "kinds": {"limit": "decimal", "act_at": "decimal"},
        "rows": [
            ["CL2", "Free chlorine", "mg/l", "0.5", "0.45"], ["TURB", "Turbidity", "NTU", "1.0", "0.9"],
            ["PB", "Lead", "µg/l", "10.0", "8.0"], ["NO3", "Nitrate", "mg/l", "50.0", "45.0"],
            ["FE", "Iron", "µg/l", "200.0", "180.0"], ["MN", "Manganese", "µg/l", "50.0", "45.0"],
            ["ECOLI", "E. coli", "per 100 ml", "0.0", "0.0"], ["PH", "pH", "pH", "9.5", "9.3"],
        ],
    },
]  # fmt: skip

SHAPED: list[dict[str, Any]] = [
    {
        "name": "near_limits",
        "folder": "regulation/water quality",
        "source": "laboratory",
        "formats": ["xlsx"],
        "tags": ["weekly"],
        "notes": "Results of thirty days at which somebody acts, with the limits that the lookup has.",
        "statement": """-- results of thirty days, with the names of their points
select p.name as sample_point, p.zone, s.taken_at, r.code, r.value
from results r
join samples s on s.sample_id = r.sample_id
join sample_points p on p.point_id = s.point_id
where s.taken_at >= date(:data_date, '-30 days') and s.taken_at < date(:data_date) and r.value is not null
order by s.taken_at, s.sample_id, r.code""",
        "steps": [
            {
                "step": "look_up", "name": "limits", "lookup": "limits", "on": {"code": "code"},
                "columns": {"determinand": "determinand", "unit": "unit", "limit": "limit", "act_at": "act_at"},
            },
            {"step": "filter", "name": "to act on", "where": "value > act_at"},
            {"step": "compute", "column": "of_limit", "as": "round(value / nullif(cast(\"limit\" as double), 0), 2)"},
            {"step": "rank", "column": "place", "order": [{"column": "of_limit", "descending": True}], "within": ["determinand"]},
            {"step": "sort", "order": ["determinand", "place"]},
            {"step": "drop", "columns": ["code", "act_at"]},
        ],
        "guards": [{"guard": "all_found", "step": "limits", "then": "hold"}],
    },
    {
        "name": "consumption_across",
        "folder": "regulation",
        "source": "metering",
        "formats": ["xlsx"],
        "tags": ["monthly"],
        "notes": "Cubic metres of each district, the months side by side, under the names that readers know.",
        "statement": """-- cubic metres by district and month, of the six months before the data date
select p.district_id, to_char(r.read_at, 'YYYY-MM') as month, round(sum(r.litres) / 1000.0, 1) as cubic_metres
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
where r.read_at >= date_trunc('month', :data_date) - interval '6 months'
  and r.read_at < date_trunc('month', :data_date)
group by 1, 2
order by 1, 2""",
        "steps": [
            {
                "step": "look_up", "name": "names", "lookup": "districts", "on": {"district_id": "district_id"},
                "columns": {"district": "title", "manager": "manager"}, "missing": "fail",
            },
            {
                "step": "rows_to_columns", "names": "month", "values": "cubic_metres", "rows": ["district", "manager"],
                "column_total": "total", "row_total": "All districts",
            },
        ],
    },
]  # fmt: skip
"""Extracts whose results go through steps."""

COMBINED: list[dict[str, Any]] = [
    {
        "name": "consumption_of_districts",
        "folder": "metering",
        "source": "metering",
        "notes": "What each district used in the month before the data date: an input of combinations.",
        "statement": """-- cubic metres by district, the whole month before the data date
select d.district_id, d.name as district, d.zone, count(distinct m.meter_id) as meters,
       round(sum(r.litres) / 1000.0, 1) as cubic_metres
from readings r
join meters m using (meter_id)
join premises p using (premise_id)
join districts d using (district_id)
where r.read_at >= date_trunc('month', :data_date) - interval '1 month'
  and r.read_at < date_trunc('month', :data_date)
  and (:zone is null or d.zone = :zone)
group by d.district_id, d.name, d.zone
order by d.district_id""",
        "parameters": [
            {
                "name": "zone", "type": "text", "required": False, "allowed": ["North", "South", "Coast"],
                "note": "One zone, or all.",
            }
        ],
    },
    {
        "name": "contacts_of_towns",
        "folder": "customers",
        "source": "contacts",
        "notes": "Open contacts by town, for the towns that are asked for: an input of combinations.",
        "statement": """// Open contacts by town
{"aggregate": "contacts_open",
 "pipeline": [
   {"$match": {"customer.address.town": {"$in": :towns}}},
   {"$group": {"_id": "$customer.address.town", "contacts": {"$sum": 1}, 
              "urgent": {"$sum": {"$cond": [{"$eq": ["$priority", 1]}, 1, 0]}}}},
   {"$sort": {"_id": 1}},
   {"$project": {"_id": 0, "town": "$_id", "contacts": 1, "urgent": 1}}
 ]}""",
        "parameters": [{"name": "towns", "type": "text", "is_list": True, "note": "Their names."}],
    },
    {
        "name": "consumption_and_contacts",
        "folder": "regulation",
        "formats": ["xlsx", "csv"],
        "tags": ["monthly"],
        "notes": "Consumption of each district beside the open contacts from there, from two databases and a lookup.",
        "inputs": [
            {"name": "consumption", "extract": "consumption_of_districts", "values": {"zone": {"parameter": "zone"}}},
            {
                "name": "contacts", "extract": "contacts_of_towns",
                "values": {"towns": {"input": "consumption", "column": "district"}},
            },
            {"name": "names", "lookup": "districts"},
        ],
        "statement": """-- consumption beside open contacts, a line for each district
select n.title as district, n.manager, c.zone, c.meters, c.cubic_metres,
       coalesce(o.contacts, 0) as open_contacts, coalesce(o.urgent, 0) as urgent
from consumption c
join names n on n.district_id = c.district_id
left join contacts o on o.town = c.district
order by c.district_id""",
        "parameters": [
            {
                "name": "zone", "type": "text", "required": False, "allowed": ["North", "South", "Coast"],
                "note": "One zone, or all.",
            }
        ],
        "steps": [{"step": "share_of_total", "of": "cubic_metres", "column": "share", "within": ["zone"]}],
    },
]  # fmt: skip
"""A combination, after the extracts that are its inputs."""

SHARED_VALUES: list[dict[str, Any]] = [
    {
        "name": "pressure_standard",
        "values": {"live": "14", "rehearsal": "13"},
        "note": "Metres head that the standard of service asks for.",
    },
    {
        "name": "estimates_before_a_visit",
        "values": {"live": 3, "rehearsal": 1},
        "note": "So many estimated readings, and somebody calls.",
    },
]

SCHEDULES: list[dict[str, Any]] = [
    {"name": "exceedances-hourly", "extract": "limit_exceedances", "rule": "0 * * * *"},
    {
        "name": "consumption-monthly",
        "extract": "monthly_consumption",
        "rule": "3rd working day 05:00",
        "calendar": "fennmoor",
        "then": [{"extract": "district_review"}],
        "catch_up": "all",
    },
    {
        "name": "chlorine-weekdays",
        "extract": "chlorine_residual",
        "rule": "weekdays 06:30",
        "calendar": "fennmoor",
        "on_holiday": "next_working_day",
        "finish_by": time(8, 0),
    },
    {
        "name": "repairs-weekly",
        "extract": "old_repairs",
        "rule": "mondays 07:00",
        "calendar": "fennmoor",
        "on_holiday": "next_working_day",
    },
    {"name": "open-contacts-weekdays", "extract": "open_contacts", "rule": "weekdays 07:15", "calendar": "fennmoor"},
    {"name": "samples-daily", "extract": "samples_by_point", "rule": "daily 06:00"},
    {"name": "night-flow-daily", "extract": "night_flow", "rule": "daily 04:30", "finish_by": time(7, 0), "attempts": 5},
]

HOLIDAYS = """BEGIN:VCALENDAR
VERSION:2.0
PRODID:-//Fennmoor Water//Days on which the offices are closed//EN
BEGIN:VEVENT
UID:new-year
DTSTART;VALUE=DATE:20240101
RRULE:FREQ=YEARLY
SUMMARY:New Year
END:VEVENT
BEGIN:VEVENT
UID:fen-day
DTSTART;VALUE=DATE:20240624
RRULE:FREQ=YEARLY
SUMMARY:Fen Day
END:VEVENT
BEGIN:VEVENT
UID:yule
DTSTART;VALUE=DATE:20241224
DTEND;VALUE=DATE:20241227
RRULE:FREQ=YEARLY
SUMMARY:Offices closed
END:VEVENT
END:VCALENDAR
"""
"""The calendar *fennmoor*."""

FIRST_RUNS: list[dict[str, Any]] = [
    {"extract": "monthly_consumption", "publish": True},
    {"extract": "limit_exceedances", "publish": True},
    {"extract": "high_users", "formats": ["csv", "json"], "publish": True},
    {"extract": "old_repairs", "publish": True},
    {"extract": "night_flow", "publish": True},
    {"extract": "chlorine_residual", "publish": True},
    {"extract": "district_review", "publish": True},
    {"extract": "low_pressure", "publish": True},
    {"extract": "monthly_consumption", "environment": "rehearsal", "values": {"zone": "Coast"}},
    {"extract": "consumption_and_contacts", "publish": True},
]
"""Runs that the first start asks for, so that there is something to look back on."""
