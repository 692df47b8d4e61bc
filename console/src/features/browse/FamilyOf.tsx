import { Button } from "antd";
import { BarLines } from "../../components/BarLines";
import { amount } from "../../lib/words";
import type { TableFamily } from "../../api/client";

/** Tables whose names differ by a date: a bar for each, month by month. */
export function FamilyOf({ family, onChoose }: { family: TableFamily; onChoose: (table: string) => void }) {
  return (
    <>
      <h2>{family.name}</h2>
      <p className="dim">
        {amount(family.members.length, "table")}
        {family.rows_about !== null && `, about ${amount(family.rows_about, "row")} in all`}
      </p>
      <BarLines
        label={`Rows of ${family.name}`}
        lines={family.members.map((member) => ({
          key: member.name,
          head: (
            <Button type="link" size="small" title={member.name} onClick={() => onChoose(member.name)}>
              {member.period}
            </Button>
          ),
          value: member.rows_about,
        }))}
      />
    </>
  );
}
