/** What a person should know of a thing that is saved all the same; nothing where there is nothing. */
export function Remarks({ of }: { of: string[] | undefined }) {
  if (!of?.length) return null;
  return (
    <ul className="flag remarks" aria-label="To know">
      {of.map((words) => (
        <li key={words}>{words[0]!.toUpperCase() + words.slice(1)}</li>
      ))}
    </ul>
  );
}
