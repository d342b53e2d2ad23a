import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Alert, Button, Card, Divider, Form, Input, Typography } from "antd";
import { useEffect } from "react";
import { Navigate, useNavigate, useSearchParams } from "react-router";
import { api, problemOf, take } from "../../api/client";
import { ProblemNote } from "../../parts/ProblemNote";
import { keepThen, within } from "../../parts/then";
import { answerByPasskey, passkeysHere } from "../../passkey";
import { forgetAll } from "../../privatekey/held";

export default function SignIn() {
  useEffect(forgetAll, []); // the next person in this browser may be another one
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [params] = useSearchParams();
  const setUp = useQuery({ queryKey: ["set-up"], queryFn: () => take(api.GET("/set-up")), retry: false });
  const signIn = useMutation({
    mutationFn: (body: { name: string; password: string; code?: string }) => take(api.POST("/session", { body })),
    onSuccess: async (me) => {
      queries.setQueryData(["me"], me);
      await navigate(within(params.get("then")), { replace: true });
    },
  });
  const byPasskey = useMutation({
    mutationFn: async () => take(api.POST("/session/passkey", { body: await answerByPasskey() })),
    onSuccess: async (me) => {
      queries.setQueryData(["me"], me);
      await navigate(within(params.get("then")), { replace: true });
    },
  });
  const giveCode = useMutation({
    mutationFn: (body: { code: string }) => take(api.POST("/session/code", { body })),
    onSuccess: async (me) => {
      queries.setQueryData(["me"], me);
      await navigate("/", { replace: true });
    },
  });
  if (setUp.data?.needed) return <Navigate to="/set-up" replace />;
  const asked = signIn.error ? problemOf(signIn.error).code : "";
  const code = asked === "code-needed" || asked === "wrong-code";
  return (
    <main className="front">
      <Card className="front-card">
        <div className="row gap-m middle after-s">
          <img src="/mark.svg" width={44} height={44} alt="" />
          <Typography.Title level={1} className="front-title">
            Plum Latch
          </Typography.Title>
        </div>
        <Typography.Paragraph type="secondary">
          Which key opens which login, who holds it, and the way back in when it is lost.
        </Typography.Paragraph>
        {params.has("refused") && (
          <Alert
            type="error"
            showIcon
            className="after-l"
            title="The issuer's answer was refused"
            description="No open account here is yours, or the answer was out of date. Sign in again, or ask an admin."
          />
        )}
        {params.has("code") ? (
          <Form layout="vertical" requiredMark={false} onFinish={(v: { code: string }) => giveCode.mutate(v)}>
            <Typography.Paragraph>
              Your organisation knows you; this account also has a second factor here.
            </Typography.Paragraph>
            <Form.Item
              name="code"
              label="Code of your second factor"
              extra="Six digits of your authenticator, or a recovery code."
              rules={[{ required: true, message: "Give the code" }]}
            >
              <Input autoFocus autoComplete="one-time-code" size="large" />
            </Form.Item>
            {giveCode.error && (
              <Form.Item>
                <ProblemNote error={giveCode.error} />
              </Form.Item>
            )}
            <Button type="primary" htmlType="submit" block size="large" loading={giveCode.isPending}>
              Sign in
            </Button>
          </Form>
        ) : (
          <Form
            layout="vertical"
            requiredMark={false}
            onFinish={(v: { name: string; password: string; code?: string }) => signIn.mutate(v)}
          >
            <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give your name" }]}>
              <Input autoFocus autoComplete="username" size="large" />
            </Form.Item>
            <Form.Item name="password" label="Password" rules={[{ required: true, message: "Give your password" }]}>
              <Input.Password autoComplete="current-password" size="large" />
            </Form.Item>
            {code && (
              <Form.Item
                name="code"
                label="Code of your second factor"
                extra="Six digits of your authenticator, or a recovery code."
                rules={[{ required: true, message: "Give the code" }]}
              >
                <Input autoFocus autoComplete="one-time-code" size="large" />
              </Form.Item>
            )}
            {signIn.error && asked !== "code-needed" && (
              <Form.Item>
                <ProblemNote error={signIn.error} />
              </Form.Item>
            )}
            <Button type="primary" htmlType="submit" block size="large" loading={signIn.isPending}>
              Sign in
            </Button>
          </Form>
        )}
        {passkeysHere && (
          <>
            <Divider plain>or</Divider>
            {byPasskey.error && (
              <div className="after-m">
                <ProblemNote error={byPasskey.error} />
              </div>
            )}
            <Button block size="large" loading={byPasskey.isPending} onClick={() => byPasskey.mutate()}>
              Sign in with a passkey
            </Button>
          </>
        )}
        {setUp.data?.issuer && (
          <>
            <Divider plain>or</Divider>
            <Button block size="large" href="/api/v1/session/issuer" onClick={() => keepThen(params.get("then"))}>
              Sign in by your organisation
            </Button>
          </>
        )}
      </Card>
    </main>
  );
}
