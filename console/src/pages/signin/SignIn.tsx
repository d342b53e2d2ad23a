import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Form, Input, Typography } from "antd";
import { useNavigate, useSearchParams } from "react-router";
import { api, take } from "../../api/client";
import { ProblemNote } from "../../parts/ProblemNote";

export default function SignIn() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [params] = useSearchParams();
  const signIn = useMutation({
    mutationFn: (body: { name: string; password: string }) => take(api.POST("/session", { body })),
    onSuccess: async (me) => {
      queries.setQueryData(["me"], me);
      const then = params.get("then") ?? "/";
      await navigate(then.startsWith("/") && !then.startsWith("//") ? then : "/", { replace: true });
    },
  });
  return (
    <main style={{ minHeight: "100vh", display: "grid", placeItems: "center", padding: 20 }}>
      <Card style={{ width: 400 }}>
        <div style={{ display: "flex", gap: 14, alignItems: "center", marginBottom: 8 }}>
          <img src="/mark.svg" width={44} height={44} alt="" />
          <Typography.Title level={2} style={{ margin: 0 }}>Plum Latch</Typography.Title>
        </div>
        <Typography.Paragraph type="secondary">Which key opens which login, who holds it, and the way back in when it is lost.</Typography.Paragraph>
        <Form layout="vertical" requiredMark={false} onFinish={(v: { name: string; password: string }) => signIn.mutate(v)}>
          <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give your name" }]}><Input autoFocus autoComplete="username" size="large" /></Form.Item>
          <Form.Item name="password" label="Password" rules={[{ required: true, message: "Give your password" }]}><Input.Password autoComplete="current-password" size="large" /></Form.Item>
          {signIn.error && <Form.Item><ProblemNote error={signIn.error} /></Form.Item>}
          <Button type="primary" htmlType="submit" block size="large" loading={signIn.isPending}>Sign in</Button>
        </Form>
      </Card>
    </main>
  );
}
