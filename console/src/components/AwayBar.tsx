import { useEffect } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { answers, service, useAway } from "../lib/service";

const EVERY = 2_000;

/** Says that the service does not answer, and asks until it does: then everything on the page is asked for anew. */
export function AwayBar() {
  const away = useAway();
  const client = useQueryClient();
  useEffect(() => {
    if (!away) return;
    let over = false;
    const look = async () => {
      if (over || !(await answers()) || over) return;
      service.answered();
      void client.invalidateQueries();
    };
    const timer = setInterval(() => void look(), EVERY);
    return () => {
      over = true;
      clearInterval(timer);
    };
  }, [away, client]);
  if (!away) return null;
  return (
    <div className="away" role="status">
      <strong>The service does not answer.</strong> What you type is kept; this page goes on by itself when it is back.
    </div>
  );
}
