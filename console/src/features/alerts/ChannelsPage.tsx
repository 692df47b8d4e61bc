import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { Link, useNavigate } from "react-router";
import { api, must, type ChannelRecord } from "../../api/client";
import { NotYours } from "../../components/NotYours";
import { ProblemNote } from "../../components/ProblemNote";
import { RecordTable } from "../../components/RecordTable";
import { useRemoval } from "../../components/useRemoval";
import { spaced } from "../../lib/words";
import { useMe } from "../session/useMe";

/** The channels on which alerts are sent. */
export function ChannelsPage() {
  const { may } = useMe();
  const administers = may("administrator");
  const client = useQueryClient();
  const go = useNavigate();
  const list = useQuery({
    queryKey: ["channels"],
    enabled: may("author"),
    queryFn: () => must(api.GET("/api/v1/channels")),
  });
  const kinds = useQuery({ queryKey: ["channel-kinds"], queryFn: () => must(api.GET("/api/v1/channel-kinds")) });
  const attempt = useMutation({
    mutationFn: (name: string) => must(api.POST("/api/v1/channels/{name}/test", { params: { path: { name } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["sendings"] }),
  });
  const removal = useRemoval("channels", (name: string) =>
    must(api.DELETE("/api/v1/channels/{name}", { params: { path: { name } } })),
  );
  if (!may("author"))
    return <NotYours title="Channels">Channels are shown to authors, and looked after by administrators.</NotYours>;
  return (
    <div className="page">
      <header className="head">
        <h1>Channels</h1>
        <p>
          Where alerts are sent. What was sent stands under{" "}
          <Link className="in-text" to="/alerts">
            Alerts
          </Link>
          .
        </p>
        <div className="grow" />
        {administers && (
          <Button type="primary" onClick={() => void go("/new-channel")}>
            Add channel
          </Button>
        )}
      </header>
      <ProblemNote error={list.error ?? kinds.error ?? attempt.error ?? removal.error} />
      <p role="status" className="said-line" style={attempt.isSuccess ? {} : { margin: 0 }}>
        {attempt.isSuccess && (
          <span>
            A test is on its way to {attempt.data.channel}.{" "}
            <Link className="in-text" to="/alerts">
              See what came back
            </Link>
          </span>
        )}
      </p>
      <RecordTable<ChannelRecord>
        rows={list.data}
        width={720}
        columns={[
          {
            title: "Channel",
            key: "name",
            width: 150,
            render: (_, c) =>
              administers ? (
                <Link className="in-text" to={`/channels/${c.name}/edit`}>
                  {c.name}
                </Link>
              ) : (
                c.name
              ),
          },
          { title: "Kind", dataIndex: "kind", width: 90 },
          { title: "To", key: "to", render: (_, c) => <span className="mono">{c.settings.to ?? c.settings.url}</span> },
          { title: "Alerts", key: "kinds", render: (_, c) => c.kinds.map(spaced).join(", ") || "all" },
          {
            title: "For people",
            key: "people",
            width: 90,
            render: (_, c) => (c.for_people ? "yes" : <span className="dim">no</span>),
          },
          { title: "In use", key: "active", width: 80, render: (_, c) => (c.active ? "yes" : <b>no</b>) },
          {
            title: <span className="sr">Test and remove</span>,
            key: "do",
            width: 170,
            render: (_, c) =>
              administers && (
                <span className="filters" style={{ margin: 0, flexWrap: "nowrap" }}>
                  <Button size="small" aria-label={`Send test on ${c.name}`} onClick={() => attempt.mutate(c.name)}>
                    Send test
                  </Button>
                  <Button
                    size="small"
                    aria-label={`Remove ${c.name}`}
                    onClick={() =>
                      removal.ask(c.name, `Remove ${c.name}?`, "The log of what was sent on it goes with it.")
                    }
                  >
                    Remove
                  </Button>
                </span>
              ),
          },
        ]}
        empty={
          <>
            <p>Alerts stand in the console only, and go nowhere yet.</p>
            {administers && <Button onClick={() => void go("/new-channel")}>Add the first one</Button>}
          </>
        }
      />
    </div>
  );
}
