import { useId, type ReactNode } from "react";
import { useAddress } from "../lib/useAddress";
import "./part.css";

/** Which parts of a page are open stands in its address, so that a link and Back bring them back. */
export function useParts() {
  const [{ open }, set] = useAddress({ open: "" });
  const now = open.split(",").filter(Boolean);
  return {
    isOpen: (part: string) => now.includes(part),
    turn: (part: string, wanted = !now.includes(part)) =>
      set({ open: [...now.filter((each) => each !== part), ...(wanted ? [part] : [])].join(",") }, true),
  };
}
export type Parts = ReturnType<typeof useParts>;

/** One thing that is decided, told in a line of plain words and opened in place. Without children it is told only. */
export function Part({
  name,
  title,
  words,
  parts,
  opens = "Change",
  fault,
  children,
}: {
  name: string;
  title: string;
  words: ReactNode;
  parts: Parts;
  opens?: string;
  fault?: ReactNode;
  children?: ReactNode;
}) {
  const body = useId();
  const open = parts.isOpen(name) && !!children;
  return (
    <section className={open ? "part is-open" : "part"} aria-label={title}>
      <h2>{title}</h2>
      <div className="part-words">{words}</div>
      {children && (
        <button
          type="button"
          className="plain part-way"
          aria-expanded={open}
          aria-controls={open ? body : undefined}
          aria-label={`${open ? "Close" : opens}: ${title}`}
          onClick={() => parts.turn(name)}
        >
          {open ? "Close" : opens}
        </button>
      )}
      {fault}
      {open && (
        <div className="part-body" id={body}>
          {children}
        </div>
      )}
    </section>
  );
}
