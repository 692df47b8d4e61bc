import { useEffect, useState } from "react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { Link, useParams, useSearchParams } from "react-router";
import { api, must, type Address, type CheckStep } from "../../api/client";
import { Remarks } from "../../components/Remarks";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { moment, placeOf } from "../../lib/words";
import { useLanguage } from "../../api/useEngines";
import { useMe } from "../session/useMe";
import { FamilyOf } from "./FamilyOf";
import { TableLook } from "./TableLook";
import { WholeTables } from "./WholeTables";
import { Tree } from "./Tree";
import { useSourceQuery } from "./useSourceQuery";
import "../runs/runs.css";
import "./browse.css";

function Steps({ steps, at }: { steps: CheckStep[]; at: string | null }) {
  return (
    <details open={steps.some((s) => !s.passed)} style={{ margin: "6px 0" }}>
      <summary>
        {steps.every((s) => s.passed) ? "The last check passed" : "The last check stopped"}, {moment(at)}
      </summary>
      <ol className="steps" aria-label="Steps of the check">
        {steps.map((s) => (
          <li key={s.step} className={s.passed ? "" : "no"}>
            <span aria-label={s.passed ? "passed" : "failed"}>{s.passed ? "✓" : "✕"}</span>
            <span>{s.step}</span>
            <span className="dim">{s.seconds.toFixed(3)} s</span>
            <span>
              {s.detail}
              {s.hint && <div>{s.hint}</div>}
              {s.warning && <div className="mind">{s.warning}</div>}
            </span>
          </li>
        ))}
      </ol>
    </details>
  );
}

function Context({ address, engine }: { address: Address; engine: string }) {
  const { user, database } = address.address as Record<string, string>;
  return (
    <span className="context">
      <span>{engine}</span>
      {database && (
        <span>
          database <b>{database}</b>
        </span>
      )}
      {user && (
        <span>
          login <b>{user}</b>
        </span>
      )}
      <span className="mono">{placeOf(address)}</span>
      <b style={{ color: "var(--pl-doneInk)" }}>read-only</b>
    </span>
  );
}

export function SourcePage() {
  const name = useParams().name!;
  const [wanted, setWanted] = useSearchParams();
  const client = useQueryClient();
  const { may } = useMe();
  const query = useQuery({
    queryKey: ["source", name],
    queryFn: () => must(api.GET("/api/v1/sources/{name}", { params: { path: { name } } })),
  });
  const source = query.data;
  const environment = wanted.get("environment") ?? source?.addresses[0]?.environment ?? "";
  const address = source?.addresses.find((a) => a.environment === environment);
  const chosen = wanted.get("table") ?? "";
  const [ticked, setTicked] = useState<ReadonlySet<string> | undefined>(undefined);
  const outlines = useLanguage(source?.engine ?? "")?.outlines;
  const catalogue = useQuery({
    queryKey: ["catalogue", name, environment],
    enabled: !!address && may("runner"),
    queryFn: () =>
      must(api.GET("/api/v1/sources/{name}/catalogue", { params: { path: { name }, query: { environment } } })),
    refetchInterval: (q) => (q.state.data?.gathering ? 1_000 : false),
  });
  const gather = useSourceQuery(name);
  const { ask, found: gathered } = gather;
  const never = catalogue.data?.gathered_at === null && !catalogue.data.gathering;
  useEffect(() => {
    if (never) ask({ environment, kind: "catalogue" });
  }, [never, ask, environment]);
  useEffect(() => {
    if (gathered) void client.invalidateQueries({ queryKey: ["catalogue", name] });
  }, [gathered, client, name]);
  const check = useSourceQuery(name);
  const { found: checked } = check;
  useEffect(() => {
    if (checked) void client.invalidateQueries({ queryKey: ["source", name] });
  }, [checked, client, name]);
  const go = (more: Record<string, string>) =>
    setWanted({ environment, ...(chosen ? { table: chosen } : {}), ...more });
  if (!source)
    return (
      <div className="page">
        <ProblemNote error={query.error} />
      </div>
    );
  const failed = gathered?.error ?? checked?.error;
  const family = catalogue.data?.families.find((each) => each.name === chosen);
  return (
    <div className="page">
      <header className="head">
        <h1>{source.name}</h1>
        <p>{source.note}</p>
        <div className="grow" />
        <Select
          aria-label="Environment"
          value={environment}
          style={{ width: 130 }}
          onChange={(value: string) => setWanted({ environment: value })}
          options={source.addresses.map((a) => ({ value: a.environment, label: a.environment }))}
        />
        {may("author") && (
          <Button loading={check.busy} disabled={!address} onClick={() => check.ask({ environment, kind: "check" })}>
            Check
          </Button>
        )}
        {(check.busy || gather.busy) && (
          <Button
            danger
            onClick={() => {
              check.cancel();
              gather.cancel();
            }}
          >
            Cancel
          </Button>
        )}
        {may("runner") && (
          <Button loading={gather.busy} disabled={!address} onClick={() => ask({ environment, kind: "catalogue" })}>
            Refresh
          </Button>
        )}
      </header>
      <Remarks of={source.remarks} />
      {address ? (
        <Context address={address} engine={source.engine} />
      ) : (
        <p>
          This source has no address yet. <Link to="/sources">Give it one.</Link>
        </p>
      )}
      <ProblemNote error={query.error ?? check.error ?? catalogue.error ?? gather.error} />
      {failed && <Failed error={failed} />}
      {address?.last_check && <Steps steps={address.last_check} at={address.last_check_at} />}
      {catalogue.data?.gathered_at && (
        <div className="browse" key={environment}>
          <div>
            <Tree
              tables={catalogue.data.tables}
              families={catalogue.data.families}
              chosen={chosen}
              onChoose={(table) => go({ table })}
              ticked={ticked}
              onTick={(table, wanted) =>
                setTicked(new Set([...(ticked ?? [])].filter((each) => each !== table).concat(wanted ? [table] : [])))
              }
            />
            {ticked ? (
              <WholeTables
                source={name}
                environment={environment}
                tables={[...ticked]}
                onLeave={() => setTicked(undefined)}
              />
            ) : (
              may("author") &&
              outlines && (
                <Button size="small" style={{ margin: "8px 0" }} onClick={() => setTicked(new Set())}>
                  Take whole tables
                </Button>
              )
            )}
            <small>
              refreshed {moment(catalogue.data.gathered_at)}
              {(catalogue.data.gathering || gather.busy) && ", being refreshed"}
            </small>
          </div>
          {family ? (
            <section key={chosen} aria-label={chosen}>
              <FamilyOf family={family} onChoose={(table) => go({ table })} />
            </section>
          ) : chosen ? (
            <section key={chosen} aria-label={chosen}>
              <TableLook
                source={name}
                environment={environment}
                table={chosen}
                engine={source.engine}
                saved={source.saved_only}
                about={catalogue.data.tables.find((t) => t.name === chosen)?.rows_about ?? null}
              />
            </section>
          ) : (
            <div className="hollow">
              <p>
                {catalogue.data.tables.length
                  ? "Choose a table to look into."
                  : "Nothing can be seen there with this login."}
              </p>
            </div>
          )}
        </div>
      )}
    </div>
  );
}
