/** Pages come when they are first opened. */
import { Component, lazy, Suspense, type ComponentType, type ReactNode } from "react";
import { useQueryClient } from "@tanstack/react-query";
import { useLocation } from "react-router";
import { Failed, report } from "../components/Boundary";
import { Waiting } from "../components/Waiting";
import { NotLoaded } from "./NotLoaded";

/** The file of a page did not come. */
class PageNotLoaded extends Error {}

/** Holds a page that failed, or did not come, back from the rail and from the next page. */
class Held extends Component<{ children: ReactNode; onAgain: () => void }, { error: unknown }> {
  override state = { error: undefined as unknown };

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override componentDidCatch(error: unknown) {
    if (!(error instanceof PageNotLoaded)) report(error, "page");
  }

  readonly again = () => {
    this.props.onAgain();
    this.setState({ error: undefined });
  };

  override render() {
    const { error } = this.state;
    if (error === undefined) return this.props.children;
    return (
      <div className="page">
        {error instanceof PageNotLoaded ? (
          <NotLoaded />
        ) : (
          <Failed what="This page" error={error} onAgain={this.again} />
        )}
      </div>
    );
  }
}

function Here({ children }: { children: ReactNode }) {
  const { pathname } = useLocation();
  const client = useQueryClient();
  // What the page failed by may be what it was told: it asks for all of it anew.
  const forget = () => client.removeQueries({ predicate: (query) => query.queryKey[0] !== "me" });
  return (
    <Held key={pathname} onAgain={forget}>
      <Suspense
        fallback={
          <div className="page">
            <Waiting what="the page" />
          </div>
        }
      >
        {children}
      </Suspense>
    </Held>
  );
}

/** The page that a module has under that name. */
export function page<Module, Name extends keyof Module>(load: () => Promise<Module>, name: Name) {
  const Page = lazy(async () => {
    let loaded: Module;
    try {
      loaded = await load();
    } catch (error) {
      throw new PageNotLoaded(String(error));
    }
    return { default: loaded[name] as ComponentType };
  });
  return (
    <Here>
      <Page />
    </Here>
  );
}
