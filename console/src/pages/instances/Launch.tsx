import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Checkbox, Form, Input, Radio, Select } from "antd";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, problemOf, requestKey, take, type Catalogue } from "../../api/client";
import { catalogueOf, useCatalogue, useClouds, useKeys } from "../../api/queries";
import { labelRules, labelsOf } from "../../labels";
import { typeText } from "../../format";
import { Facts } from "../../parts/Facts";
import { KeyGlyph } from "../../parts/KeyGlyph";
import { MoreChoices } from "../../parts/MoreChoices";
import { Loading } from "../../parts/Loading";
import { PageHead } from "../../parts/PageHead";
import { ProblemNote } from "../../parts/ProblemNote";
import { NewKey } from "../keys/NewKey";

interface Wanted {
  name: string;
  cloud?: string;
  image: string;
  size: string;
  zone: string;
  keys?: string[];
  no_key?: boolean;
  steward?: boolean;
  static_address?: boolean;
  labels?: string;
  reason?: string;
}

/** The zones in which an image can be launched. */
function zonesOf(offered: Catalogue, image?: string) {
  const some = offered.images.find((i) => i.name === image)?.zones;
  return some ? offered.zones.filter((z) => some.includes(z.name)) : offered.zones;
}

export default function Launch() {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const clouds = useClouds();
  const queries = useQueryClient();
  const [cloud, setCloud] = useState<string>();
  const catalogue = useCatalogue(cloud);
  const [find, setFind] = useState("");
  const keys = useKeys({ q: find || undefined });
  const [making, setMaking] = useState(false);
  const [form] = Form.useForm<Wanted>();
  const now = Form.useWatch([], form) as Partial<Wanted> | undefined;
  const launch = useMutation({
    mutationFn: (w: Wanted & { once: string }) =>
      take(
        api.POST("/instances", {
          params: { header: { "Idempotency-Key": w.once } },
          body: {
            name: w.name,
            cloud: catalogue.data?.cloud,
            image: w.image,
            size: w.size,
            zone: w.zone,
            keys: w.no_key ? undefined : w.keys,
            no_key: w.no_key || undefined,
            steward: w.steward || undefined,
            static_address: w.static_address,
            labels: w.labels ? labelsOf(w.labels) : undefined,
            reason: w.reason || undefined,
          },
        }),
      ),
    onSuccess: (l) => void navigate(`/runs/${l.run.id}`),
    onError: (e) => {
      const p = problemOf(e);
      if (p.field === "name" || p.field === "keys")
        form.setFields([{ name: p.field, errors: [p.detail + (p.remedy ? `. ${p.remedy}` : "")] }]);
    },
  });
  if (catalogue.error) return <ProblemNote error={catalogue.error} again={() => void catalogue.refetch()} />;
  if (!catalogue.data) return <Loading />;
  const { images, sizes } = catalogue.data;
  const zones = zonesOf(catalogue.data, now?.image ?? images[0]?.name);
  // What the other cloud offers is there before the form shows it.
  const change = async (to: string) => {
    const offered = await queries.ensureQueryData(catalogueOf(to)).catch(() => undefined);
    if (!offered) return;
    setCloud(to);
    const image = offered.images.some((i) => i.name === now?.image) ? now?.image : offered.images[0]?.name;
    form.setFieldsValue({
      image,
      size: offered.sizes.some((z) => z.name === now?.size) ? now?.size : offered.sizes[0]?.name,
      zone: zonesOf(offered, image)[0]?.name,
    });
  };
  const image = images.find((i) => i.name === now?.image);
  const size = sizes.find((z) => z.name === now?.size);
  const takes = (type: string) => !image || image.key_types.includes(type);
  return (
    <>
      <PageHead title="Launch an instance" />
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={(w) => launch.mutate({ ...w, once: requestKey() })}
        className="columns main-side page top"
        initialValues={{
          image: images[0]?.name,
          size: sizes[0]?.name,
          zone: zones[0]?.name,
          keys: params.getAll("key"),
        }}
      >
        <div className="stack">
          <Card size="small" title="1  What">
            <div className="pair of-fields">
              <Form.Item
                name="name"
                label="Name"
                rules={[
                  { required: true, message: "Give it a name" },
                  {
                    pattern: /^[a-z0-9]([a-z0-9._-]{0,62}[a-z0-9])?$/,
                    message: "1 to 64 of a-z 0-9 . _ - and no blank",
                  },
                ]}
              >
                <Input autoFocus placeholder="atlas-web-3" />
              </Form.Item>
              {(clouds.data?.length ?? 0) > 1 && (
                <Form.Item label="Cloud">
                  <Select
                    aria-label="Cloud"
                    value={catalogue.data.cloud}
                    onChange={(to: string) => void change(to)}
                    options={clouds.data
                      ?.filter((c) => !c.paused_at)
                      .map((c) => ({ value: c.name, label: c.failure ? `${c.name}, which does not answer` : c.name }))}
                  />
                </Form.Item>
              )}
              <Form.Item
                name="image"
                label="Image"
                extra={
                  image &&
                  `Login user ${image.login_user}` +
                    (image.key_types.length < 5 ? `; takes ${image.key_types.join(", ")} keys only` : "")
                }
              >
                <Select
                  options={images.map((i) => ({ value: i.name, label: i.title }))}
                  onChange={(to: string) => {
                    const there = zonesOf(catalogue.data, to);
                    if (!there.some((z) => z.name === now?.zone)) form.setFieldsValue({ zone: there[0]?.name });
                  }}
                />
              </Form.Item>
            </div>
            <Form.Item name="size" label="Size" className="flush-end">
              <Radio.Group
                className="pair gap-s"
                options={sizes.map((z) => ({
                  value: z.name,
                  label:
                    `${z.name}: ${z.cpus} CPU, ${z.memory_mib / 1024} GiB, disk ${z.disk_gib} GiB` +
                    (z.temporary_disk_gib ? ` + ${z.temporary_disk_gib} GiB temporary` : ""),
                }))}
              />
            </Form.Item>
          </Card>
          <Card size="small" title="2  Who can log in">
            <Form.Item
              name="keys"
              label="Keys that open it"
              dependencies={["no_key"]}
              extra="A second key keeps you from being locked out when one is lost."
              rules={[
                {
                  validator: (_, v: string[] | undefined) =>
                    v?.length || form.getFieldValue("no_key")
                      ? Promise.resolve()
                      : Promise.reject(new Error("Choose a key, make one, or say below that nobody is to log in")),
                },
              ]}
            >
              <Select
                mode="multiple"
                placeholder="Choose keys"
                showSearch={{ onSearch: setFind, filterOption: false }}
                disabled={now?.no_key}
                optionLabelProp="label"
                options={keys.rows
                  .filter((k) => k.state === "active")
                  .map((k) => ({ value: k.name, label: k.name, key: k, disabled: !takes(k.type) }))}
                optionRender={(o) => {
                  const k = keys.rows.find((x) => x.name === o.value);
                  return (
                    k && (
                      <span className="row middle">
                        <KeyGlyph sha256={k.fingerprints.sha256} />
                        {k.name}
                        <span className="faint push">
                          {typeText(k.type, k.bits)}
                          {takes(k.type) ? "" : ", not taken by this image"}
                          {k.holder ? `, ${k.holder.name}` : ""}
                        </span>
                      </span>
                    )
                  );
                }}
              />
            </Form.Item>
            <Button onClick={() => setMaking(true)} disabled={now?.no_key}>
              Make or import a key
            </Button>
            <Form.Item name="no_key" valuePropName="checked" className="flush before-m">
              <Checkbox>Launch without any key</Checkbox>
            </Form.Item>
            <Form.Item
              name="steward"
              valuePropName="checked"
              className="flush before-xs"
              extra={
                "The service's own, limited to this instance; by it the service sweeps and changes keys. It can be " +
                "withdrawn at any time."
              }
            >
              <Checkbox>A steward key as well</Checkbox>
            </Form.Item>
            {now?.no_key && <Alert type="warning" showIcon title="Nobody will be able to log in to this instance." />}
          </Card>
          <Card size="small" title="3  Where, and why">
            <Form.Item name="reason" label="Why (for the daybook)">
              <Input />
            </Form.Item>
            <MoreChoices>
              <div className="pair of-fields">
                <Form.Item name="zone" label="Zone">
                  <Select options={zones.map((z) => ({ value: z.name, label: `${z.name} (${z.region})` }))} />
                </Form.Item>
                <Form.Item name="labels" label="Labels" rules={labelRules}>
                  <Input placeholder="team=atlas, site=pier-2" />
                </Form.Item>
              </div>
              <Form.Item name="static_address" valuePropName="checked" className="flush-end">
                <Checkbox>A static address, which stays at a stop</Checkbox>
              </Form.Item>
            </MoreChoices>
          </Card>
        </div>
        <Card size="small" title="What will be launched" className="stays">
          <Facts
            of={[
              ["Name", now?.name],
              ["Image", image?.title],
              ["Size", size?.name],
              ["Zone", now?.zone],
              ["Address", now?.static_address ? "static, which stays at a stop" : "changes at a stop"],
              ["Opened by", now?.no_key ? "nobody" : now?.keys?.join(", ")],
              ["Steward key", now?.steward && "yes, the service's own"],
              ["Login", image && now?.name && `${image.login_user}@${now.name}`],
              ["Password", "off"],
              [
                "A stop costs",
                [now?.static_address ? "" : "the address", size?.temporary_disk_gib ? "the temporary disk" : ""]
                  .filter(Boolean)
                  .join(" and "),
              ],
            ]}
          />
          <div className="before-m after-m">
            {launch.error && !["name", "keys"].includes(problemOf(launch.error).field ?? "") && (
              <ProblemNote error={launch.error} />
            )}
          </div>
          <Button type="primary" htmlType="submit" block loading={launch.isPending}>
            Launch
          </Button>
        </Card>
      </Form>
      {making && (
        <NewKey
          close={() => setMaking(false)}
          made={(k) => form.setFieldValue("keys", [...(now?.keys ?? []), k.name])}
        />
      )}
    </>
  );
}
