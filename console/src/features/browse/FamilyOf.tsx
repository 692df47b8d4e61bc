import { Button } from "antd";
import { amount, count } from "../../lib/words";
import type { TableFamily } from "../../api/client";

/** Tables whose names differ by a date: a bar for each, month by month. */
export function FamilyOf({ family, onChoose }: { family: TableFamily; onChoose: (table: string) => void }) {
  const most = Math.max(1, ...family.members.map((member) => member.rows_about ?? 0));
  return (
    <>
      <h2>{family.name}</h2>
      <p className="dim">
        {amount(family.members.length, "table")}
        {family.rows_about !== null && `, about ${amount(family.rows_about, "row")} in all`}
      </p>
      <table className="bars" aria-label={`Rows of ${family.name}`}>
        <tbody>
          {family.members.map((member) => (
            <tr key={member.name}>
              <td>
                <Button type="link" size="small" title={member.name} onClick={() => onChoose(member.name)}>
                  {member.period}
                </Button>
              </td>
              <td className="n" style={{ textAlign: "right" }}>
                {member.rows_about === null ? "" : count(member.rows_about)}
              </td>
              <td>
                <div style={{ width: `${(100 * (member.rows_about ?? 0)) / most}%` }} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
