import { useEffect, useRef, useState } from "react";
import { Form, type FormInstance } from "antd";
import { kept } from "../lib/kept";

/** What makes a field secret: a box for passwords, whatever it shows now, or one that says so. */
const SECRET = ".ant-input-password input, input[data-secret]";

/** The values of a form, kept until they are sent, of whoever typed them. `box`: where its fields are. */
export function useKept<Fields extends object>(of: string, form: FormInstance<Fields>) {
  const [restored, setRestored] = useState(() => kept.of(of));
  const values = Form.useWatch<object | undefined>([], { form, preserve: true });
  const box = useRef<HTMLDivElement>(null);
  const secrets = useRef(new Set<string>());
  const sent = useRef(false);
  const keep = useRef(() => {
    for (const input of box.current?.querySelectorAll<HTMLInputElement>(SECRET) ?? [])
      secrets.current.add(input.id.replaceAll("_", "."));
    const all = form.getFieldsValue(true) as object;
    const named = places(all).filter((at) => secrets.current.has(at.replaceAll("_", ".")));
    kept.keep(of, all, named);
  });
  useEffect(() => {
    if (restored) form.setFieldsValue(restored);
  }, [form, restored]);
  useEffect(() => {
    if (!sent.current && values && form.isFieldsTouched()) keep.current();
  }, [values, form]);
  return {
    box,
    restored,
    /** At once with each change: what is typed and closed in one breath is kept, too. */
    keep: () => keep.current(),
    wasSent: () => {
      sent.current = true;
      kept.forget(of);
    },
    anew: () => {
      kept.forget(of);
      form.resetFields();
      setRestored(undefined);
    },
  };
}

/** Where the values of a form stand: `name`, `settings.url`. */
function places(values: object, before = ""): string[] {
  return Object.entries(values).flatMap(([name, value]: [string, unknown]) =>
    value && typeof value === "object" && !Array.isArray(value)
      ? [before + name, ...places(value, `${before}${name}.`)]
      : [before + name],
  );
}
