import { Dropdown } from "antd";
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
    <Dropdown
      trigger={["click"]}
      menu={{
        items: offered(column.kind).map((key) => ({ key, label: KINDS[key]!.title })),
        onClick: ({ key }) => onStep(key, column),
      }}
    >
      <button
        type="button"
        className="plain step-menu"
        aria-label={`Add a step with ${column.name}`}
        aria-haspopup="menu"
      >
        +
      </button>
    </Dropdown>
  );
}
