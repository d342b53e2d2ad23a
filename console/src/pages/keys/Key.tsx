import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App, Button, Card } from "antd";
import { Link, useNavigate, useParams } from "react-router";
import { api, problemOf, take, type Key } from "../../api/client";
import { useKey, useMe, useOpens } from "../../api/queries";
import { moment, typeText } from "../../format";
import { CopyText } from "../../parts/CopyText";
import { EmptyNote } from "../../parts/EmptyNote";
import { Findings } from "../../parts/Findings";
import { Facts } from "../../parts/Facts";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { Labels } from "../../parts/Labels";
import { Loading } from "../../parts/Loading";
import { loginColumns } from "../../parts/openingColumns";
import { PagedTable } from "../../parts/list/PagedTable";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { StateMark } from "../../parts/StateMark";
import { ProveButton } from "../../parts/Prove";
import { Change } from "./Change";
import { HandOver, Uses } from "./Custody";
import { MarkLost, Weight } from "./Loss";
import { Forget, Found } from "./Claims";
import { TakeOut } from "./TakeOut";

export default function KeyPage() {
  const { name = "" } = useParams();
  const key = useKey(name);
  const opens = useOpens(name);
  const me = useMe();
  if (key.error) return <ProblemNote error={key.error} again={() => void key.refetch()} />;
  if (!key.data) return <Loading />;
  const k = key.data;
  const may = me.data && me.data.role !== "viewer";
  const launch = may && (
    <Link to={`/launch?key=${encodeURIComponent(k.name)}`}>
      <Button>Launch an instance with it</Button>
    </Link>
  );
  return (
    <>
      <PageHead
        title={k.name}
        sign={<KeyGlyph sha256={k.fingerprints.sha256} size={40} />}
        note={<StateMark state={k.state} />}
      >
        {launch}
        {may && !k.steward && k.opens > 0 && (
          <Link to={`/rotations/plan?key=${encodeURIComponent(k.name)}`}>
            <Button>Rotate it</Button>
          </Link>
        )}
        {me.data && k.state === "active" && !k.steward && <MarkLost of={{ key: k.name }} text="Mark as lost" />}
        {may && !k.steward && k.state === "active" && <HandOver of={k} />}
        {may && !k.steward && <Change of={k} />}
        {may && <Delete of={k} />}
      </PageHead>
      <div className="columns three-two after-l">
        <Card size="small" title="Fingerprints and public key">
          <Facts
            of={[
              ["SHA-256", <CopyText key="s" text={k.fingerprints.sha256} label="SHA-256 fingerprint" />],
              ["MD5", <CopyText key="m" text={k.fingerprints.md5} label="MD5 fingerprint" />],
              [
                "MD5 of SPKI",
                k.fingerprints.spki_md5 && (
                  <CopyText key="d" text={k.fingerprints.spki_md5} label="MD5 of the SPKI DER" />
                ),
              ],
              [
                "SHA-1 of PKCS#8",
                k.fingerprints.pkcs8_sha1 && (
                  <CopyText key="h" text={k.fingerprints.pkcs8_sha1} label="SHA-1 of the PKCS#8 DER" />
                ),
              ],
              ["Public key", <CopyText key="p" text={k.public_key} label="public key" />],
              [
                "Download it as",
                forms.map((f) => (
                  <a
                    key={f.format}
                    href={`/api/v1/keys/${encodeURIComponent(k.name)}/public-key?format=${f.format}`}
                    download={`${k.name}.${f.ending}`}
                    className="apart"
                  >
                    {f.label}
                  </a>
                )),
              ],
            ]}
          />
        </Card>
        <Card size="small" title="What it is">
          <Facts
            of={[
              ["Type", `${typeText(k.type, k.bits)} bits (${k.algorithm})`],
              ["Comment", k.comment],
              ["Purpose", k.purpose],
              [
                "Holder",
                k.steward ? "the service's own" : k.holder ? `${k.holder.name} (${k.holder.title})` : "nobody",
              ],
              ["Private key", custody(k)],
              ["Take it out, once", !k.steward && k.custody === "kept" && <TakeOut key="t" of={k} />],
              ["Forget the kept copy", !k.steward && k.custody === "kept" && <Forget key="g" of={k} />],
              [
                "Last proved",
                k.steward ? "" : k.proved_at ? `${moment(k.proved_at)} by ${k.proved_by ?? ""}` : "never",
              ],
              [
                "Prove it",
                !k.steward && k.state === "active" && (
                  <ProveButton key="v" of={k.name} text="Prove that you hold it" small />
                ),
              ],
              ["Found again", !k.steward && k.state === "lost" && <Found key="f" of={k} />],
              ["Labels", Object.keys(k.labels).length > 0 && <Labels labels={k.labels} list="/keys" />],
              ["Recorded", `${moment(k.created_at)} by ${k.created_by}`],
            ]}
          />
        </Card>
      </div>
      {k.findings.length > 0 && (
        <div className="after-l">
          <Findings of={k.findings} />
        </div>
      )}
      {!k.steward && k.opens > 0 && <Weight of={k.name} />}
      <Card size="small" title="Logins that it opens" styles={{ body: { padding: 0 } }}>
        <PagedTable
          pages={opens}
          noun="login"
          rowKey={(o) => o.login}
          columns={loginColumns}
          empty={<EmptyNote text="It opens nothing.">{launch}</EmptyNote>}
        />
      </Card>
      <Uses of={k.name} />
    </>
  );
}

const forms = [
  { format: "line", label: "one line (OpenSSH)", ending: "pub" },
  { format: "rfc4716", label: "RFC 4716", ending: "ssh2.pub" },
  { format: "spki", label: "PEM", ending: "pem" },
  { format: "jwk", label: "JWK", ending: "jwk.json" },
];

function custody(k: Key): string {
  if (k.steward) return "in the service's safe: it is the service's own key, for one instance";
  if (k.custody === "kept") return "kept by the service, encrypted";
  if (k.origin === "service") return "with its holder; the service made it and handed it over once";
  return "with its holder; it never came to the service";
}

function Delete({ of }: { of: Key }) {
  const { modal } = App.useApp();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => take(api.DELETE("/keys/{key}", { params: { path: { key: of.name } } })),
    onSuccess: async () => {
      await navigate("/keys");
      await queries.invalidateQueries({ queryKey: ["keys", "list"] });
    },
    onError: (e) => {
      const p = problemOf(e);
      modal.error({
        title: `${of.name} was not deleted`,
        content: (
          <>
            <p>{p.detail}.</p>
            {p.where && (
              <ul>
                {p.where.map((w) => (
                  <li key={w}>{w}</li>
                ))}
              </ul>
            )}
            <p>{p.remedy}.</p>
          </>
        ),
      });
    },
  });
  const ask = () =>
    modal.confirm({
      title: `Delete the record of ${of.name}?`,
      content: "Its private key, wherever it is, stays there. A record is deleted only if the key is granted nowhere.",
      okText: "Delete the record",
      cancelText: "Keep it",
      okButtonProps: { danger: true },
      onOk: () => remove.mutateAsync().catch(() => {}),
    });
  return (
    <Button danger onClick={() => void ask()}>
      Delete
    </Button>
  );
}
