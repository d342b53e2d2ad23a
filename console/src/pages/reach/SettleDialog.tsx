import { Button, Modal } from "antd";
import { useState } from "react";
import type { Difference } from "../../api/client";
import { useDrift } from "../../api/queries";
import { counted } from "../../format";
import { EmptyNote } from "../../parts/EmptyNote";
import { PagedTable } from "../../parts/list/PagedTable";
import { Confirm, differenceColumns, idOf, useChoices } from "./Settling";

/** The drift of one login, decided about where the person is. */
export default function SettleDialog({ login, close }: { login: string; close: () => void }) {
  const pages = useDrift({ login });
  const { chosen, choose, picked } = useChoices(pages.rows);
  const [asking, setAsking] = useState(false);
  if (asking) return <Confirm of={picked} close={close} />;
  return (
    <Modal
      open
      width={1040}
      title={`Drift of ${login}`}
      onCancel={close}
      footer={
        <>
          <Button onClick={close}>Leave it</Button>
          <Button type="primary" disabled={picked.length === 0} onClick={() => setAsking(true)}>
            Settle {picked.length > 0 ? counted(picked.length, "difference") : "them"}
          </Button>
        </>
      }
    >
      <PagedTable<Difference>
        pages={pages}
        noun="difference"
        rowKey={idOf}
        columns={differenceColumns(true, chosen, choose).filter((c) => c.key !== "login")}
        empty={<EmptyNote text="No drift as of the last readings." />}
      />
    </Modal>
  );
}
