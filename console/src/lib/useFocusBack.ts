import { useEffect, useState } from "react";

/** The keyboard comes back to where it was when a dialog opened, once that closes. */
export function useFocusBack() {
  const [before] = useState(() => document.activeElement);
  useEffect(
    () => () => {
      if (before instanceof HTMLElement && before.isConnected) before.focus();
    },
    [before],
  );
}
