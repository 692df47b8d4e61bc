import { Dialog } from "./Dialog";
import { KeptForm, type Kept } from "./KeptForm";

interface Props<Fields> extends Kept<Fields> {
  title: string;
  okText: string;
  danger?: boolean;
  pending: boolean;
  width?: number;
  onClose: () => void;
}

/** A form in a dialog; the keyboard comes back to where it was. */
export function FormDialog<Fields extends object>(props: Props<Fields>) {
  const { title, okText, danger, pending, width, onClose, ...rest } = props;
  return (
    <Dialog
      what="This form"
      title={title}
      okText={okText}
      okButtonProps={{ danger: !!danger }}
      onCancel={onClose}
      onOk={rest.form.submit}
      confirmLoading={pending}
      width={width ?? 520}
    >
      <KeptForm {...rest} />
    </Dialog>
  );
}
