"""Every address of the service in one place."""

from django.urls import path, re_path
from django.views.decorators.csrf import ensure_csrf_cookie

from .alerts import api as alerts
from .common.document_api import ApiDocument
from .console import api as console_faults
from .console import views as console
from .extracts import api as extracts
from .extracts import drafts_api as drafts
from .extracts import filing_api as filing
from .extracts import lookups_api as lookups
from .extracts import outlines_api as outlines
from .extracts import values_api as values
from .extracts import writing_api as writing
from .people import api as people
from .people import groups_api as groups
from .runs import api as runs
from .runs import backfills_api as backfills
from .runs import files_api as files
from .runs import finding_api as finding
from .runs import health
from .runs import night_api as night
from .runs import repository_api as repository
from .runs import schedules_api as schedule_runs
from .runs import unsaved_api as unsaved
from .runs import workers_api as workers
from .schedules import api as schedules
from .sources import api as sources
from .sources import browse_api as browsing

_API = "api/v1/"
urlpatterns = [
    path("healthz", health.health),
    path("readyz", health.health),
    path("livez", health.alive),
    path(_API + "openapi.json", ApiDocument.as_view()),
    path(_API + "sign-in", people.SessionSignIn.as_view()),
    path(_API + "sign-in/token", people.TokenSignIn.as_view()),
    path(_API + "me", people.Me.as_view()),
    path(_API + "me/sessions", people.Sessions.as_view()),
    path(_API + "me/sessions/<int:number>", people.OneSession.as_view()),
    path(_API + "people", people.People.as_view()),
    path(_API + "people/<str:name>", people.OnePerson.as_view()),
    path(_API + "groups", groups.Groups.as_view()),
    path(_API + "groups/<str:name>", groups.OneGroup.as_view()),
    path(_API + "tokens", people.Tokens.as_view()),
    path(_API + "tokens/<int:token_id>", people.OneToken.as_view()),
    path(_API + "environments", sources.Environments.as_view()),
    path(_API + "environments/<str:name>", sources.OneEnvironment.as_view()),
    path(_API + "engines", sources.Engines.as_view()),
    path(_API + "sources", sources.Sources.as_view()),
    path(_API + "sources/<str:name>", sources.OneSource.as_view()),
    path(_API + "sources/<str:name>/check", sources.SourceCheck.as_view()),
    path(_API + "sources/<str:name>/catalogue", browsing.Catalogue.as_view()),
    path(_API + "sources/<str:name>/tables/<str:table>", browsing.OneTable.as_view()),
    path(_API + "sources/<str:name>/queries", browsing.Queries.as_view()),
    path(_API + "find", finding.Everything.as_view()),
    path(_API + "catalogue-search", browsing.CatalogueSearch.as_view()),
    path(_API + "queries/<str:number>", browsing.OneQuery.as_view()),
    path(_API + "queries/<str:number>/cancel", browsing.QueryCancel.as_view()),
    path(_API + "queries/<str:number>/profile", browsing.QueryProfile.as_view()),
    path(_API + "queries/<str:number>/file", browsing.QueryFile.as_view()),
    path(_API + "queries/<str:number>/cells/<int:row>/<int:column>", browsing.QueryCell.as_view()),
    path(_API + "extracts", repository.Repository.as_view()),
    path(_API + "extracts/<str:name>", extracts.OneExtract.as_view()),
    path(_API + "extracts/<str:name>/revisions", extracts.ExtractRevisions.as_view()),
    path(_API + "extracts/<str:name>/move", extracts.ExtractMove.as_view()),
    path(_API + "extracts/<str:name>/details", extracts.ExtractDetails.as_view()),
    path(_API + "extracts/<str:name>/choices", writing.Choices.as_view()),
    path(_API + "extracts/<str:name>/copy", extracts.ExtractCopy.as_view()),
    path(_API + "extracts/<str:name>/differences", extracts.ExtractDifferences.as_view()),
    path(_API + "differences", extracts.TextDifferences.as_view()),
    path(_API + "extracts/<str:name>/archive", extracts.ExtractArchive.as_view()),
    path(_API + "extracts/<str:name>/retention", extracts.ExtractRetention.as_view()),
    path(_API + "extracts/<str:name>/depends-on", extracts.ExtractDependsOn.as_view()),
    path(_API + "extracts/<str:name>/restore", extracts.ExtractRestore.as_view()),
    path(_API + "extracts/<str:name>/opened", filing.Opened.as_view()),
    path(_API + "extracts/<str:name>/favourite", filing.Favourite.as_view()),
    path(_API + "filings", filing.Filings.as_view()),
    path(_API + "extracts/<str:name>/draft", drafts.ExtractDraft.as_view()),
    path(_API + "console-faults", console_faults.ConsoleFaults.as_view()),
    path(_API + "drafts", drafts.Drafts.as_view()),
    path(_API + "drafts/<str:key>", drafts.NewDraft.as_view()),
    path(_API + "diagnostics", writing.Diagnostics.as_view()),
    path(_API + "restore-parameters", writing.RestoreParameters.as_view()),
    path(_API + "previews", writing.Previews.as_view()),
    path(_API + "completions", writing.Completions.as_view()),
    path(_API + "lookups", lookups.Lookups.as_view()),
    path(_API + "lookups/<str:name>", lookups.OneLookup.as_view()),
    path(_API + "lookups/<str:name>/rows", lookups.LookupRows.as_view()),
    path(_API + "lookups/<str:name>/revisions", lookups.LookupRevisions.as_view()),
    path(_API + "lookups/<str:name>/archive", lookups.LookupArchive.as_view()),
    path(_API + "lookups/<str:name>/restore", lookups.LookupRestore.as_view()),
    path(_API + "lookups/<str:name>/differences", lookups.LookupDifferences.as_view()),
    path(_API + "lookups/<str:name>/file", lookups.LookupFile.as_view()),
    path(_API + "input-schema", writing.InputSchema.as_view()),
    path(_API + "step-schema", writing.StepSchema.as_view()),
    path(_API + "steps/check", writing.StepsCheck.as_view()),
    path(_API + "outline-schema", outlines.OutlineSchema.as_view()),
    path(_API + "outlines/compile", outlines.OutlineCompile.as_view()),
    path(_API + "outlines/joins", outlines.OutlineJoins.as_view()),
    path(_API + "outlines/read", outlines.OutlineRead.as_view()),
    path(_API + "outlines/counts", outlines.OutlineCounts.as_view()),
    path(_API + "outlines/look", outlines.OutlineOfLook.as_view()),
    path(_API + "outlines/tables", outlines.WholeTables.as_view()),
    path(_API + "values", values.SharedValues.as_view()),
    path(_API + "values/<str:name>", values.OneSharedValue.as_view()),
    path(_API + "date-phrases", values.DatePhrases.as_view()),
    path(_API + "schedules", schedule_runs.ScheduleList.as_view()),
    path(_API + "rule-times", schedules.RuleTimes.as_view()),
    path(_API + "schedules/<str:name>", schedules.OneSchedule.as_view()),
    path(_API + "schedules/<str:name>/month", schedule_runs.ScheduleMonth.as_view()),
    path(_API + "schedules/<str:name>/run", schedule_runs.ScheduleRun.as_view()),
    path(_API + "pauses", schedules.Pauses.as_view()),
    path(_API + "schedules/<str:name>/pause", schedules.SchedulePause.as_view()),
    path(_API + "schedules/<str:name>/resume", schedules.ScheduleResume.as_view()),
    path(_API + "schedules/<str:name>/backfill", backfills.ScheduleBackfill.as_view()),
    path(_API + "backfills", backfills.Backfills.as_view()),
    path(_API + "backfills/<int:number>", backfills.OneBackfill.as_view()),
    path(_API + "backfills/<int:number>/cancel", backfills.BackfillCancel.as_view()),
    path(_API + "backfills/<int:number>/repeat", backfills.BackfillRepeat.as_view()),
    path(_API + "calendars", schedules.Calendars.as_view()),
    path(_API + "calendars/<str:name>", schedules.OneCalendar.as_view()),
    path(_API + "schedules/<str:name>/due-times", schedules.ScheduleDueTimes.as_view()),
    path(_API + "alerts", alerts.Alerts.as_view()),
    path(_API + "me/alerts", alerts.OwnAlerts.as_view()),
    path(_API + "bell", alerts.Bell.as_view()),
    path(_API + "channel-kinds", alerts.ChannelKinds.as_view()),
    path(_API + "channels", alerts.Channels.as_view()),
    path(_API + "channels/<str:name>", alerts.OneChannel.as_view()),
    path(_API + "channels/<str:name>/test", alerts.ChannelTest.as_view()),
    path(_API + "sendings", alerts.Sendings.as_view()),
    path(_API + "sendings/<int:number>/again", alerts.SendingAgain.as_view()),
    path(_API + "runs", runs.Runs.as_view()),
    path(_API + "unsaved-runs", unsaved.UnsavedRuns.as_view()),
    path(_API + "dry-runs", runs.DryRuns.as_view()),
    path(_API + "runs/<int:number>", runs.OneRun.as_view()),
    path(_API + "runs/<int:number>/log", runs.RunLog.as_view()),
    path(_API + "runs/<int:number>/cancel", runs.RunCancel.as_view()),
    path(_API + "runs/<int:number>/release", runs.RunRelease.as_view()),
    path(_API + "runs/<int:number>/reject", runs.RunReject.as_view()),
    path(_API + "runs/<int:number>/delivery", runs.RunDelivery.as_view()),
    path(_API + "runs/<int:number>/publish", runs.RunPublish.as_view()),
    path(_API + "runs/<int:number>/withdraw", runs.RunWithdraw.as_view()),
    path(_API + "runs/<int:number>/again", runs.RunAgain.as_view()),
    path(_API + "runs/<int:number>/files/<str:name>", files.RunFile.as_view()),
    path(_API + "runs/<int:number>/files/<str:name>/preview", files.RunFilePreview.as_view()),
    path(_API + "runs/<int:number>/files/<str:name>/profile", files.RunFileProfile.as_view()),
    path(_API + "runs/<int:number>/zip", files.RunZip.as_view()),
    path(_API + "extracts/<str:name>/latest", files.LatestRun.as_view()),
    path(_API + "extracts/<str:name>/latest/<str:format>", files.LatestResult.as_view()),
    path(_API + "formats", writing.Formats.as_view()),
    path(_API + "samples", writing.Samples.as_view()),
    path(_API + "results", files.Results.as_view()),
    path(_API + "workers", workers.Workers.as_view()),
    path(_API + "workers/<str:number>/drain", workers.WorkerDrain.as_view()),
    path(_API + "status", runs.Status.as_view()),
    path(_API + "last-night", night.LastNight.as_view()),
    re_path(r"(?s)^api/.*$", console.no_such_address),
    re_path(console.PAGES, ensure_csrf_cookie(console.index)),
    re_path(r"(?s)^.*$", ensure_csrf_cookie(console.no_such_page)),
]
