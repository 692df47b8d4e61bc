import { Problem } from "../api/client";

/** An error: the cause, and what to do next. */
export function ProblemNote({ error }: { error: unknown }) {
  if (!error) return null;
  const message = error instanceof Error ? error.message : "Something went wrong.";
  return (
    <div className="problem" role="alert">
      <strong>{message}</strong>
      {error instanceof Problem && error.hint && <span>{error.hint}</span>}
    </div>
  );
}
