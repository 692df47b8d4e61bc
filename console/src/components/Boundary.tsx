import { Component, type ErrorInfo, type ReactNode } from "react";
import { api } from "../api/client";

interface Props {
  /** What stands in it, as a sentence begins: "The preview". */
  what: string;
  children: ReactNode;
}

/** Tells the service's log of a fault of the console's own, once for each text of it. */
const told = new Set<string>();
export function report(error: unknown, where: string, stack = "") {
  const message = error instanceof Error ? `${error.name}: ${error.message}` : String(error);
  if (told.has(message + where)) return;
  told.add(message + where);
  const body = {
    message: message.slice(0, 500),
    page: location.pathname.slice(0, 200),
    stack: `${error instanceof Error ? (error.stack ?? "") : ""}\n${stack}`.slice(0, 6_000),
  };
  void api.POST("/api/v1/console-faults", { body }).catch(() => undefined);
}

/** What is shown in place of a part that failed: the rest of the page goes on. */
export function Failed({ what, error, onAgain }: { what: string; error: unknown; onAgain: () => void }) {
  return (
    <div className="problem failed" role="alert">
      <strong>{what} cannot be shown: a fault of the console’s own.</strong>
      <span>
        What you typed is kept. The service’s log has the details
        {error instanceof Error && error.message ? ` of “${error.message.slice(0, 160)}”` : ""}.
      </span>
      <span className="filters">
        <button type="button" className="plain-button" onClick={onAgain}>
          Show it again
        </button>
        <button type="button" className="plain-button" onClick={() => location.reload()}>
          Load the page anew
        </button>
      </span>
    </div>
  );
}

/** Holds a fault of one part back from the rest. */
export class Boundary extends Component<Props, { error: unknown }> {
  override state = { error: undefined as unknown };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override componentDidCatch(error: unknown, info: ErrorInfo) {
    report(error, this.props.what, info.componentStack ?? "");
  }

  override render() {
    if (this.state.error === undefined) return this.props.children;
    return (
      <Failed what={this.props.what} error={this.state.error} onAgain={() => this.setState({ error: undefined })} />
    );
  }
}
