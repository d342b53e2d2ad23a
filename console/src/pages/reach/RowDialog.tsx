import { Button, Modal } from "antd";
import { Link } from "react-router";
import { useReachRow } from "../../api/queries";
import { counted } from "../../format";
import { KeyName } from "../../parts/KeyName";
import { Loading } from "../../parts/Loading";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { gridOfGroups, statesOf } from "./grid";

/** The logins of a row, which have the same keys. */
export function RowDialog({ id, close }: { id: string; close: () => void }) {
  const { data, error } = useReachRow(id);
  const row = data?.rows[0];
  const drawn = data && gridOfGroups(data).rows[0];
  return (
    <Modal
      open
      width={820}
      title={row ? `${counted(row.count, "login")} with the same keys` : "Logins with the same keys"}
      onCancel={close}
      footer={
        <Button type="primary" onClick={close}>
          Close
        </Button>
      }
    >
      {error ? (
        <ProblemNote error={error} />
      ) : !row || !drawn ? (
        <Loading />
      ) : (
        <>
          <p className="row many">
            {statesOf(drawn).map((s) => (
              <span key={s.state}>
                {s.count} <StateMark state={s.state} />
              </span>
            ))}
          </p>
          <ul className="bare-list row many after-m">
            {row.cells.map((c) => (
              <li key={c.key} className="inline middle">
                {data.columns[c.key]?.keys.map((k) => (
                  <KeyName key={k.name} name={k.name} sha256={k.sha256} />
                ))}
                <StateMark state={c.status} />
              </li>
            ))}
          </ul>
          <ul className="bare-list names">
            {row.names.map((name) => (
              <li key={name}>
                <Link to={`/logins/${encodeURIComponent(name)}`}>{name}</Link>
              </li>
            ))}
          </ul>
          {row.names.length < row.count && <p>The first {row.names.length} are shown.</p>}
        </>
      )}
    </Modal>
  );
}
