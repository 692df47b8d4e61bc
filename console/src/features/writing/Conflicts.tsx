import { useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { api, must, type Extract } from "../../api/client";
import { DifferenceView } from "../../components/DifferenceView";
import { moment } from "../../lib/words";
import { draftOf, type Draft, type Drafting } from "./useDraft";

const shown = (value: unknown) =>
  (typeof value === "string" ? value || "nothing" : JSON.stringify(value)).slice(0, 120);
/** Somebody saved meanwhile: both texts, what differs, and the two ways on. */
export function Conflict({
  extract,
  draft,
  onKeep,
  onDrop,
}: {
  extract: Extract;
  draft: Draft;
  onKeep: () => void;
  onDrop: () => void;
}) {
  const { revision } = extract;
  const { statement } = draft;
  const theirs = draftOf(extract);
  const others = (Object.keys(theirs) as (keyof Draft)[]).filter(
    (key) => key !== "base" && key !== "statement" && JSON.stringify(theirs[key]) !== JSON.stringify(draft[key]),
  );
  const differ = useQuery({
    queryKey: ["text-differences", revision.statement, statement],
    queryFn: () => must(api.POST("/api/v1/differences", { body: { before: revision.statement, after: statement } })),
  });
  return (
    <div className="conflict" role="alert">
      <strong>
        {revision.author} saved revision {revision.number} on {moment(revision.saved_at)}, after you began.
      </strong>
      <p style={{ margin: "4px 0" }}>
        {revision.change_note && `“${revision.change_note}”. `}From that revision (−) to your text (+):
      </p>
      {others.length > 0 && (
        <p style={{ margin: "4px 0" }}>
          Also differing:{" "}
          {others
            .map((key) => `${key.replace("_", " ")} (${shown(theirs[key])} there, ${shown(draft[key])} here)`)
            .join("; ")}
          .
        </p>
      )}
      {differ.data && <DifferenceView lines={differ.data} label="From the saved revision to your text" />}
      <div className="filters" style={{ marginTop: 6 }}>
        <Button size="small" onClick={onKeep}>
          Go on with mine, on top of revision {revision.number}
        </Button>
        <Button size="small" onClick={onDrop}>
          Drop mine, take theirs
        </Button>
      </div>
    </div>
  );
}

/** One person, two windows: which of the two texts is meant. */
export function OtherWindow({ drafting }: { drafting: Drafting }) {
  const { other, takeOther, keepMine } = drafting;
  if (!other) return null;
  return (
    <div className="conflict" role="alert">
      <strong>You changed this draft in another window on {moment(other.saved_at)}.</strong>
      <p style={{ margin: "4px 0" }}>Nothing is kept of this window until you say which of the two is meant.</p>
      <div className="filters" style={{ marginTop: 6 }}>
        <Button size="small" onClick={takeOther}>
          Take that one
        </Button>
        <Button size="small" onClick={keepMine}>
          Keep this one
        </Button>
      </div>
    </div>
  );
}
