"""What other programs call it: words that people type, and the command, verb or option of ours that they mean.

A line of a table is what is meant, and after its colon the words for it. Of several verbs or options the first that the command
at hand has is meant.
"""

from __future__ import annotations

from collections.abc import Mapping


def _table(text: str) -> Mapping[str, str]:
    found: dict[str, str] = {}
    for line in text.replace("\n    ", " ").strip().splitlines():
        meant, _, words = line.partition(": ")
        found |= dict.fromkeys(words.split(), meant)
    return found


COMMANDS = _table("""
sign-in: login log-in signin auth
sign-in --url URL: config configure settings
sign-out: logout log-out signout
status: health ping night whoami me
--version: version
run start EXTRACT --into FOLDER: export
result get NAME: download fetch get
run start EXTRACT --dry-run: dry-run dryrun
extract show NAME: show
result verify PATH: verify
run start EXTRACT: execute exec trigger
run again NUMBER: retry rerun repeat
run cancel NUMBER: kill abort stop cancel
run release NUMBER: approve accept
run log NUMBER: log logs
run log NUMBER --follow: tail
extract archive NAME: delete
extract move NAME --name NEW: rename mv
extract revisions NAME: history versions
extract save NAME: create new add
extract restore NAME --revision N: revert rollback
extract copy NAME NEW: cp clone duplicate
lookup save NAME --file FILE: upload
extract check NAME: validate lint
extract save NAME --statement FILE: import
extract sql NAME: fill render
extract preview --plan: explain plan
source check NAME: test connect
source browse NAME: browse tables
source browse NAME TABLE: describe
schedule resume NAME: enable resume
schedule pause NAME: disable pause
schedule list: cron job
extract preview --source SOURCE --text STATEMENT: query select
extract list: queries report list ls folder tag template
user list: people person account
user password: password passwd
source list: database db connection datasource
source engines: engine
service start: server serve start daemon up migrate upgrade
service start --demo: demo init setup
service database: backup psql
environment list: env
value list: param variable
calendar list: holiday
alert list: notice notification
result list: file output
channel list: webhook mail notify
user list: role
phrase show PHRASE: date
source edit NAME --secret-stdin: secret
""")

ELSEWHERE = _table("""
run start EXTRACT: extract-run extract-start extract-execute extract-trigger extract-launch extract-export run-extract
run cancel NUMBER: extract-cancel extract-stop schedule-cancel
run log NUMBER: extract-log extract-logs schedule-log schedule-logs
run list --extract NAME: extract-runs extract-results
run list --schedule NAME: schedule-runs
result get NAME: extract-download extract-fetch extract-latest run-download run-fetch
result verify PATH: run-verify
schedule add NAME EXTRACT: extract-schedule
backfill start NAME: schedule-backfill schedule-catch-up
channel add NAME KIND: alert-add alert-create alert-new
""")
"""A noun and a verb that it has not, with a hyphen between: another noun has it."""

VERBS = {word: meant.split() for word, meant in _table("""
list: ls all
show: view info describe cat
show list: status
show get: get
add save start set: create new
add save set: add
add: register invite
favourite: favorite star bookmark pin
edit save set move: edit label tag tags owner
edit save set: update change modify
edit set: set
save add: import
remove archive revoke drop cancel edit: delete remove
remove archive revoke drop cancel: rm discard
remove archive revoke: del
remove archive: drop
edit archive pause: deactivate
move edit: rename
move: mv
revisions list log next: history
revisions: versions
restore: revert rollback undelete unarchive
check: validate lint connect
verify check: verify
check test: ping
check: test try
test: send
again deliver repeat resend: retry
again repeat: rerun repeat
again start: restart
again: replay
start run: execute trigger launch submit
start: run
run: start
cancel pause drain: stop
cancel: kill abort terminate
log: logs tail wait
get: download fetch save
get start: export
resume: enable unpause
resume edit: activate
pause edit: disable
pause: suspend
times next: moments upcoming
release: approve accept
reject: deny
sql: fill render compile
depends-on: after dependencies requires
retention: keep keeping
copy: clone duplicate
diff: compare
browse: tables
preview browse: query
engines kinds: types
edit: role reset-password
sent: deliveries
own: mute
""").items()}  # fmt: skip

OPTIONS = {word: meant.split() for word, meant in _table("""
--limit --rows --total: --limit -n
--limit --rows: --max --most
--limit: --last --count
--total: --count
--formats: --format --as
--follow --formats: -f
--formats --kind: --type
--set --parameters: --param --params --parameter
--set: --var -p -v
--set --env: --value
--into --output: --output -o
--into: --out
--into --deliver-into: --dest --to
--into --deliver-into --search: --folder
--into --folder: --dir --directory --path
--env: --environment -e
--data-date --on --from: --date
--data-date --on: --day
--data-date: --on
--password-stdin: --password
--secret-stdin: --secret
--yes: -y --force --confirm
--state --where --search: --filter
--state: --status
--search: --name -q
--from: --since --start
--to: --end
--to --until: --until
--zone: --timezone --tz
--rule: --cron --schedule --at --when
--timeout-minutes --query-timeout --connect-timeout: --timeout
--attempts: --retries --max-attempts
--follow: --tail --watch
--no-wait: --async --detach --background
--dry-run: --plan --preview --simulate
--url: --server --endpoint
--url --address: --host
--statement: --query --sql
--statement --file: --file
--note --change-note: --comment
--change-note --note: --message -m
--notes --note: --description
--note --reason: --reason
--then: --depends-on --after
NAME: --user --username
--max-runs: --concurrency --places
--max-runs --while-running: --parallel
--tag --tags: --tags
--json: --output-format
--again: --rerun
--calendar: --holidays
--option: --overwrite --compress
""").items()}  # fmt: skip
