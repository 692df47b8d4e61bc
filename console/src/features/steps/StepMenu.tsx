import { Menu } from "../../components/Menu";
import type { GridColumn } from "../../lib/grid";
import { KINDS, offered } from "./steps";
import "./steps.css";

/** In the header of a column: what can be done with it after the fetch. */
export function StepMenu({
  column,
  onStep,
}: {
  column: GridColumn;
  onStep: (kind: string, column: GridColumn) => void;
}) {
  return (
    <Menu
      items={offered(column.kind).map((key) => ({ key, label: KINDS[key]!.title }))}
      onChoose={(key) => onStep(key, column)}
    >
      <button
        type="button"
        className="plain step-menu"
        aria-label={`Add a step with ${column.name}`}
        aria-haspopup="menu"
      >
        +
      </button>
    </Menu>
  );
}
