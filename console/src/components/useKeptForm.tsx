import { useEffect, useRef, useState } from "react";
import { Button, Form, type FormInstance } from "antd";
import { Problem } from "../api/client";
import { kept } from "../lib/kept";

/** A form whose values are kept under ``of`` until they are sent: leaving it, a click beside it, Esc and a fault lose
 * nothing. A refused field says why beside itself. */
export function useKeptForm<Fields extends object>(
  of: string,
  form: FormInstance<Fields>,
  error: unknown,
  onSend: (fields: Fields) => Promise<unknown>,
) {
  const [restored, setRestored] = useState(() => kept.of(of));
  const values = Form.useWatch<object | undefined>([], { form, preserve: true });
  const sent = useRef(false);
  useEffect(() => {
    if (restored) form.setFieldsValue(restored);
  }, [form, restored]);
  useEffect(() => {
    if (!sent.current && values && form.isFieldsTouched()) kept.keep(of, form.getFieldsValue(true) as object);
  }, [values, form, of]);
  useEffect(() => {
    if (!(error instanceof Problem)) return;
    const field = error.facts.field ?? error.facts.parameter;
    if (typeof field !== "string") return;
    const name = error.facts.parameter === field ? ["values", field] : field.split(".");
    form.setFields([{ name: name as never, errors: [[error.message, error.hint].join(" ")] }]);
  }, [error, form]);
  const send = async (fields: Fields) => {
    try {
      await onSend(fields);
    } catch {
      return; // the error is shown, and what was typed is kept
    }
    sent.current = true;
    kept.forget(of);
  };
  /** At once with each change: what is typed and closed in one breath is kept, too. */
  const keep = () => kept.keep(of, form.getFieldsValue(true) as object);
  const anew = () => {
    kept.forget(of);
    form.resetFields();
    setRestored(undefined);
  };
  const note = restored && (
    <p className="said-line" role="status">
      <span>As you left it.</span>
      <Button size="small" type="text" onClick={anew}>
        Begin anew
      </Button>
    </p>
  );
  return { send, note, keep };
}
