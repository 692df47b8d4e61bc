import { useDeferredValue, useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Input } from "antd";
import { Link, useNavigate } from "react-router";
import { api, must, type Source } from "../../api/client";
import { ProblemNote } from "../../components/ProblemNote";
import { useRemoval } from "../../components/useRemoval";
import { moment, placeOf } from "../../lib/words";
import { useMe } from "../session/useMe";
import "../runs/runs.css";

/** Finds tables and columns by name in every source that was browsed. */
function SearchAll() {
  const [word, setWord] = useState("");
  const wanted = useDeferredValue(word.trim());
  const found = useQuery({
    queryKey: ["catalogue-search", wanted],
    enabled: wanted.length > 1,
    placeholderData: (before) => before,
    queryFn: () => must(api.GET("/api/v1/catalogue-search", { params: { query: { search: wanted } } })),
  });
  return (
    <>
      <div className="filters">
        <Input.Search
          aria-label="Find tables and columns"
          placeholder="Find tables and columns in all sources"
          allowClear
          style={{ width: 340 }}
          value={word}
          onChange={(e) => setWord(e.target.value)}
        />
      </div>
      {wanted.length > 1 && found.data && (
        <section className="card" style={{ marginBottom: 14 }} aria-label="Found">
          {!found.data.length && (
            <p className="dim" style={{ margin: 0 }}>
              Nothing of that name. A source is searched once its catalogue was gathered: open it.
            </p>
          )}
          {found.data.slice(0, 20).map((f) => (
            <div key={`${f.source}/${f.environment}/${f.table}/${f.column}`}>
              <Link to={`/sources/${f.source}?environment=${f.environment}&table=${encodeURIComponent(f.table)}`}>
                {f.table}
                {f.column && `.${f.column}`}
              </Link>{" "}
              <small>
                {f.kind} in {f.source}, {f.environment}
              </small>
            </div>
          ))}
        </section>
      )}
    </>
  );
}

function AddressRow({ address }: { address: Source["addresses"][number] }) {
  const failed = address.last_check?.find((step) => !step.passed);
  return (
    <tr>
      <td>{address.environment}</td>
      <td className="mono">{placeOf(address)}</td>
      <td>
        {!address.last_check && <span className="dim">not checked yet</span>}
        {address.last_check && !failed && (
          <>
            <span style={{ color: "var(--pl-doneInk)" }}>
              passed every step: {address.last_check.map((s) => s.step).join(" · ")}
            </span>
            {address.last_check
              .filter((s) => s.warning)
              .map((s) => (
                <div className="flag" style={{ margin: 0 }} key={s.step}>
                  {s.warning}
                </div>
              ))}
          </>
        )}
        {failed && (
          <>
            <span className="said">
              {failed.step}: {failed.detail}
            </span>
            <div>{failed.hint}</div>
          </>
        )}
      </td>
      <td>{moment(address.last_check_at)}</td>
    </tr>
  );
}

export function SourcesPage() {
  const go = useNavigate();
  const client = useQueryClient();
  const { may } = useMe();
  const [checked, setChecked] = useState(0);
  const query = useQuery({ queryKey: ["sources"], queryFn: () => must(api.GET("/api/v1/sources")) });
  const renew = () => client.invalidateQueries({ queryKey: ["sources"] });
  const check = useMutation({
    mutationFn: (name: string) => must(api.POST("/api/v1/sources/{name}/check", { params: { path: { name } } })),
    onSuccess: renew,
  });
  const removal = useRemoval("sources", (name: string) =>
    must(api.DELETE("/api/v1/sources/{name}", { params: { path: { name } } })),
  );
  const found = query.data ?? [];
  const groups = [...new Set(found.map((s) => s.group))].sort();
  const checkAll = async () => {
    for (const [at, { name }] of found.entries()) {
      setChecked(at + 1);
      await check.mutateAsync(name).catch(() => undefined);
    }
    setChecked(0);
  };
  return (
    <div className="page">
      <header className="head">
        <h1>Sources</h1>
        <p>{found.length} sources; extracts only ever read them.</p>
        <div className="grow" />
        {may("author") && found.length > 1 && (
          <Button loading={checked > 0} disabled={!checked && check.isPending} onClick={() => void checkAll()}>
            {checked ? `Checking ${checked} of ${found.length}` : "Check all"}
          </Button>
        )}
        {may("administrator") && (
          <Button type="primary" onClick={() => void go("/new-source")}>
            Add source
          </Button>
        )}
      </header>
      <ProblemNote error={query.error ?? check.error ?? removal.error} />
      {may("runner") && found.length > 0 && <SearchAll />}
      {query.data && !found.length && (
        <div className="card hollow">
          <p>There are no sources yet.</p>
          {may("administrator") && <Button onClick={() => void go("/new-source")}>Add the first one</Button>}
        </div>
      )}
      {groups
        .flatMap((group) => found.filter((s) => s.group === group))
        .map((source, i, all) => (
          <div key={source.name}>
            {source.group && all[i - 1]?.group !== source.group && <h2>{source.group}</h2>}
            <section className="card" style={{ marginBottom: 14 }} aria-label={source.name}>
              <header className="head">
                <h2 style={{ margin: 0 }}>
                  <Link to={`/sources/${source.name}`}>{source.name}</Link>
                </h2>
                <p>
                  {source.engine}, {source.max_runs} runs at once, {source.query_timeout_seconds} s a statement.{" "}
                  {source.note}
                </p>
                <div className="grow" />
                {may("author") && (
                  <Button
                    size="small"
                    aria-label={`Check ${source.name}`}
                    loading={check.isPending && check.variables === source.name}
                    onClick={() => check.mutate(source.name)}
                  >
                    Check
                  </Button>
                )}
                {may("administrator") && (
                  <Button
                    size="small"
                    aria-label={`Edit ${source.name}`}
                    onClick={() => void go(`/sources/${source.name}/edit`)}
                  >
                    Edit
                  </Button>
                )}
                {may("administrator") && (
                  <Button
                    size="small"
                    type="text"
                    aria-label={`Remove ${source.name}`}
                    onClick={() =>
                      removal.ask(source.name, `Remove ${source.name}?`, "Its addresses and passwords go with it.")
                    }
                  >
                    Remove
                  </Button>
                )}
              </header>
              <table className="files">
                <thead>
                  <tr>
                    <th style={{ width: 110 }}>Environment</th>
                    <th>Address</th>
                    <th style={{ width: "38%" }}>Last check</th>
                    <th style={{ width: 130 }}>At</th>
                  </tr>
                </thead>
                <tbody>
                  {source.addresses.map((address) => (
                    <AddressRow key={address.environment} address={address} />
                  ))}
                </tbody>
              </table>
            </section>
          </div>
        ))}
    </div>
  );
}
