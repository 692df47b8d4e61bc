import { useEffect } from "react";
import { answers } from "../lib/service";

const KEY = "loaded-anew-at";
const SOON = 10_000;

/** A page whose file is gone: the service is away, or was renewed since this one was loaded. Once it answers, all is loaded anew. */
export function NotLoaded() {
  useEffect(() => {
    let over = false;
    const look = async () => {
      const before = Number(sessionStorage.getItem(KEY) ?? 0);
      if (over || Date.now() - before < SOON || !(await answers()) || over) return;
      sessionStorage.setItem(KEY, String(Date.now()));
      location.reload();
    };
    void look();
    const timer = setInterval(() => void look(), 2_000);
    return () => {
      over = true;
      clearInterval(timer);
    };
  }, []);
  return (
    <div className="hollow" role="status">
      <p>This page is being loaded anew: the service is away, or was renewed meanwhile.</p>
      <button type="button" className="plain-button" onClick={() => location.reload()}>
        Load it now
      </button>
    </div>
  );
}
