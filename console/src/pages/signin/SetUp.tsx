import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Card, Form, Input, Typography } from "antd";
import { useNavigate } from "react-router";
import { api, take } from "../../api/client";
import { ProblemNote } from "../../parts/ProblemNote";

/** The first admin of a new service. */
export default function SetUp() {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const make = useMutation({
    mutationFn: (body: { secret: string; name: string; title?: string; password: string }) =>
      take(api.POST("/set-up", { body })),
    onSuccess: () => {
      queries.removeQueries({ queryKey: ["set-up"] }); // which said that it is needed
      return navigate("/sign-in", { replace: true });
    },
  });
  return (
    <main className="front">
      <Card className="front-card wide">
        <Typography.Title level={1} className="flush page-title">
          A new Plum Latch
        </Typography.Title>
        <Typography.Paragraph type="secondary">
          There is no account yet. The set-up secret is printed where the service was started.
        </Typography.Paragraph>
        <Form
          layout="vertical"
          requiredMark={false}
          onFinish={(v: { secret: string; name: string; title?: string; password: string }) => make.mutate(v)}
        >
          <Form.Item name="secret" label="Set-up secret" rules={[{ required: true, message: "Give the secret" }]}>
            <Input autoFocus autoComplete="off" />
          </Form.Item>
          <Form.Item name="name" label="Your name" rules={[{ required: true, message: "Give a name" }]}>
            <Input autoComplete="username" placeholder="ines" />
          </Form.Item>
          <Form.Item name="title" label="Who that is, in words">
            <Input placeholder="Ines Vale, operations" />
          </Form.Item>
          <Form.Item
            name="password"
            label="Password"
            extra="10 characters or more."
            rules={[{ required: true, min: 10, message: "10 characters or more" }]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          {make.error && (
            <Form.Item>
              <ProblemNote error={make.error} />
            </Form.Item>
          )}
          <Button type="primary" htmlType="submit" block loading={make.isPending}>
            Make the first admin
          </Button>
        </Form>
      </Card>
    </main>
  );
}
