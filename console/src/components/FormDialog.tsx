import { useEffect, useRef, useState, type ReactNode } from "react";
import { Button, Form, type FormInstance } from "antd";
import { Problem } from "../api/client";
import { kept } from "../lib/kept";
import { Dialog } from "./Dialog";
import { ProblemNote } from "./ProblemNote";

interface Props<Fields> {
  title: string;
  /** What the form is about, as its values are kept under until they are sent. */
  of: string;
  form: FormInstance<Fields>;
  first?: object | undefined;
  okText: string;
  danger?: boolean;
  pending: boolean;
  error: unknown;
  width?: number;
  onSend: (fields: Fields) => Promise<unknown>;
  onClose: () => void;
  children: ReactNode;
}

/** A form in a dialog. Closing it, a click beside it, Esc and a fault lose nothing that was typed; errors stand first and are
 * in view; the keyboard comes back to where it was. */
export function FormDialog<Fields extends object>(props: Props<Fields>) {
  const { title, of, form, first, okText, danger, pending, error, width, onSend, onClose, children } = props;
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
    const name = typeof error.facts.parameter === "string" ? ["values", error.facts.parameter] : field;
    if (typeof field === "string")
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
  const anew = () => {
    kept.forget(of);
    form.resetFields();
    setRestored(undefined);
  };
  return (
    <Dialog
      what="This form"
      title={title}
      okText={okText}
      okButtonProps={{ danger: !!danger }}
      onCancel={onClose}
      onOk={form.submit}
      confirmLoading={pending}
      width={width ?? 520}
    >
      {restored && (
        <p className="said-line" role="status">
          <span>As you left it.</span>
          <Button size="small" type="text" onClick={anew}>
            Begin anew
          </Button>
        </p>
      )}
      <ProblemNote error={error} shown />
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        {...(first ? { initialValues: first } : {})}
        scrollToFirstError={{ focus: true }}
        onFinish={(fields) => void send(fields)}
      >
        {children}
      </Form>
    </Dialog>
  );
}
