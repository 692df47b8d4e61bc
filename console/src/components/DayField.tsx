import { useState } from "react";
import { CalendarOutlined } from "@ant-design/icons";
import { Button, Calendar, Input, Popover } from "antd";
import dayjs from "dayjs";

interface Props {
  id?: string;
  /** "2026-11-24"; empty: none. */
  value?: string | null | undefined;
  onChange?: (day: string) => void;
  /** With a time of day, as "2026-11-24 06:30". */
  time?: boolean;
  width?: number;
}

const DAY = /^\d{4}-\d{2}-\d{2}$/;
const MOMENT = /^\d{4}-\d{2}-\d{2}[ T]\d{2}:\d{2}$/;

/** The one field for dates: typed as ISO writes them, or chosen from a month. What is no date yet is handed on when the field
 * is left, so that whoever checks the form says what is wrong with it. */
export function DayField({ value, onChange, time = false, width, ...rest }: Props) {
  const [typed, setTyped] = useState<string | null>(null);
  const [open, setOpen] = useState(false);
  const text = typed ?? value ?? "";
  const whole = (given: string) => given === "" || ((time ? MOMENT : DAY).test(given) && dayjs(given).isValid());
  const take = (given: string) => {
    setTyped(whole(given) ? null : given);
    if (whole(given)) onChange?.(given);
  };
  const month = (
    <Calendar
      fullscreen={false}
      {...(DAY.test(text) ? { value: dayjs(text) } : {})}
      onSelect={(day, { source }) => {
        if (source !== "date") return;
        take(day.format("YYYY-MM-DD"));
        setOpen(false);
      }}
    />
  );
  return (
    <Input
      {...rest}
      style={{ width: width ?? "100%" }}
      placeholder={time ? "YYYY-MM-DD HH:mm" : "YYYY-MM-DD"}
      value={text}
      status={whole(text) ? "" : "error"}
      onChange={(event) => take(event.target.value)}
      onBlur={() => {
        if (typed === null) return;
        setTyped(null);
        onChange?.(typed);
      }}
      suffix={
        !time && (
          <Popover
            trigger="click"
            open={open}
            onOpenChange={setOpen}
            destroyOnHidden
            content={<div style={{ width: 290 }}>{month}</div>}
          >
            <Button type="text" size="small" icon={<CalendarOutlined />} aria-label="Choose a date" />
          </Popover>
        )
      }
    />
  );
}
