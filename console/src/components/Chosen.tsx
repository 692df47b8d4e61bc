import type { ReactNode } from "react";
import { Button } from "antd";

/** What was done to several at once, and how it is undone. */
export function Done({ words, onUndo }: { words: string; onUndo: () => void }) {
  return (
    <p className="said-line" role="status">
      <span>{words}</span>
      <Button size="small" onClick={onUndo}>
        Undo
      </Button>
    </p>
  );
}

interface Props {
  /** All that are chosen, in words; empty: none is, and nothing is shown. */
  words: string;
  onNone: () => void;
  /** Where there are more in sight than are chosen. */
  onAll?: (() => void) | undefined;
  children: ReactNode;
}

/** What can be done with all that are chosen. */
export function Chosen({ words, onNone, onAll, children }: Props) {
  if (!words) return null;
  return (
    <div className="filters several" role="group" aria-label="With those chosen">
      <span aria-live="polite">{words} chosen</span>
      {children}
      {onAll && (
        <Button size="small" type="text" onClick={onAll}>
          Choose all that are shown
        </Button>
      )}
      <Button size="small" type="text" onClick={onNone}>
        Choose none
      </Button>
    </div>
  );
}
