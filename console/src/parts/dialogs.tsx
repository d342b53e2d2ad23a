import { createContext, Suspense, useContext, useMemo, useState, type ReactNode } from "react";
import { useLocation } from "react-router";

interface Dialogs {
  open: (dialog: ReactNode) => void;
  close: () => void;
}

const DialogsContext = createContext<Dialogs>({ open: () => {}, close: () => {} });

/** Opens a dialog that stays until it is closed, though what opened it may leave the page. Another page closes it. */
export const useDialogs = () => useContext(DialogsContext);

/** Where the dialogs of a page are. */
export function DialogHost({ children }: { children: ReactNode }) {
  const { pathname } = useLocation();
  const [shown, setShown] = useState<{ dialog: ReactNode; on: string }>();
  const dialogs = useMemo(
    () => ({ open: (dialog: ReactNode) => setShown({ dialog, on: pathname }), close: () => setShown(undefined) }),
    [pathname],
  );
  return (
    <DialogsContext value={dialogs}>
      {children}
      {shown?.on === pathname && <Suspense fallback={null}>{shown.dialog}</Suspense>}
    </DialogsContext>
  );
}
