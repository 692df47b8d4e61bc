import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Form, Input } from "antd";
import { api, must } from "../../api/client";
import { Logo } from "../../components/Logo";
import { ProblemNote } from "../../components/ProblemNote";
import { becomes } from "./person";

export function SignIn() {
  const client = useQueryClient();
  const signIn = useMutation({
    mutationFn: (body: { name: string; password: string }) => must(api.POST("/api/v1/sign-in", { body })),
    onSuccess: (me) => {
      becomes(client, me.name);
      client.setQueryData(["me"], me);
    },
  });
  return (
    <main className="sign-in">
      <section className="card">
        <div className="mark" style={{ padding: "0 0 14px" }}>
          <Logo />
          <h1 style={{ margin: 0, color: "var(--pl-ink)" }}>Patient Ladle</h1>
        </div>
        <Form
          layout="vertical"
          requiredMark={false}
          onFinish={(body: { name: string; password: string }) => signIn.mutate(body)}
        >
          <Form.Item label="Name" name="name" rules={[{ required: true, message: "Your name is needed." }]}>
            <Input autoFocus autoComplete="username" />
          </Form.Item>
          <Form.Item label="Password" name="password" rules={[{ required: true, message: "Your password is needed." }]}>
            <Input.Password autoComplete="current-password" />
          </Form.Item>
          <ProblemNote error={signIn.error} />
          <Button type="primary" htmlType="submit" block loading={signIn.isPending}>
            Sign in
          </Button>
        </Form>
      </section>
    </main>
  );
}
