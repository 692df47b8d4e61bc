import { useState } from "react";
import { Button, Select } from "antd";
import type { Filter } from "../../api/client";
import { Failed, ProblemNote } from "../../components/ProblemNote";
import { ProfileView } from "./ProfileView";
import { useSourceQuery } from "./useSourceQuery";
import { SaveLook } from "./SaveLook";
import { useTable, type Place } from "./useTable";

/** A column of a table at a glance, reckoned in the source over every row that passes the filters. */
export function ProfileOf({ filters, ...place }: Place & { filters: Filter[] }) {
  const { source, environment, table } = place;
  const [column, setColumn] = useState<string | undefined>(undefined);
  const columns = useTable(place);
  const query = useSourceQuery(source);
  const failed = query.found?.error;
  const profile = query.found?.result?.profile;
  const ask = (wanted: string) => {
    setColumn(wanted);
    query.ask({ environment, kind: "profile", table, column: wanted, filters });
  };
  return (
    <>
      <div className="filters">
        <Select
          size="small"
          showSearch={{ optionFilterProp: "label" }}
          aria-label="Profile of a column"
          placeholder="Choose a column"
          style={{ width: 200 }}
          value={column}
          onChange={ask}
          options={(columns.data?.columns ?? []).map((c) => ({ value: c.name, label: c.name }))}
        />
        {column && (
          <Button size="small" loading={query.busy} onClick={() => ask(column)}>
            Ask again
          </Button>
        )}
        {query.busy && (
          <Button size="small" danger onClick={query.cancel}>
            Cancel
          </Button>
        )}
        <span className="dim" aria-live="polite">
          {query.busy && "Running query…"}
        </span>
      </div>
      <ProblemNote error={query.error ?? columns.error} />
      {failed && <Failed error={failed} />}
      {!column && (
        <div className="hollow">
          <p>Choose a column to see what it holds: least, greatest, mean, the commonest values and how they spread.</p>
        </div>
      )}
      {query.found && profile && (
        <>
          <ProfileView
            profile={profile}
            of={query.found.active_filters.length ? `where ${query.found.active_filters.join(" and ")}` : "of all rows"}
          />
          <SaveLook found={query.found} name={`${table}_${profile.column}_profile`} place={place} />
        </>
      )}
    </>
  );
}
