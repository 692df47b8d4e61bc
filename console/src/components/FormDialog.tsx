import type { ReactNode } from "react";
import { Form, type FormInstance } from "antd";
import { Dialog } from "./Dialog";
import { ProblemNote } from "./ProblemNote";
import { useKeptForm } from "./useKeptForm";

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
  const { send, note, keep } = useKeptForm(of, form, error, onSend);
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
      {note}
      <ProblemNote error={error} shown />
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        {...(first ? { initialValues: first } : {})}
        scrollToFirstError={{ focus: true }}
        onValuesChange={keep}
        onFinish={(fields) => void send(fields)}
      >
        {children}
      </Form>
    </Dialog>
  );
}
