// Lets in who is signed in, and signs in who brings a token: typed, or behind the # of a sign-in link.

import { type FormEvent, type ReactNode, useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";

import { useQueryClient } from "@tanstack/react-query";

import { Refused, useMe, useSignIn, whenSessionEnds } from "../data/api";

export function Access({ children }: { children: ReactNode }) {
  const me = useMe();
  const signIn = useSignIn();
  const [token, setToken] = useState("");
  const { mutate } = signIn;
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  useEffect(
    () =>
      whenSessionEnds(() => {
        setEnded(true);
        void queries.resetQueries({ queryKey: ["me"] });
      }),
    [queries],
  );
  useEffect(() => {
    // What stands behind the # never reaches a server's log; it is taken out of the address at once.
    const take = () => {
      const linked = new URLSearchParams(location.hash.slice(1)).get("token");
      if (!linked) return;
      history.replaceState(null, "", location.pathname + location.search);
      mutate(linked);
    };
    take();
    // A link may be followed on a page that is open already.
    addEventListener("hashchange", take);
    return () => removeEventListener("hashchange", take);
  }, [mutate]);

  if (me.data) return children;
  if (me.isPending || signIn.isPending) return <p className="empty-page loading">Signing in …</p>;
  const unreachable = me.error instanceof Refused && me.error.status !== 401 && me.error.status !== 403;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate(token);
  };
  return (
    <main className="sign-in">
      <h1>Kesmo</h1>
      {unreachable ? <p role="alert">{me.error?.message}</p> : null}
      {ended && !unreachable ? <p role="alert">Your session has ended. Sign in again to go on where you were.</p> : null}
      <Form onSubmit={submit}>
        <Form.Label htmlFor="token">Token</Form.Label>
        <Form.Control id="token" type="password" autoComplete="off" autoFocus value={token} onChange={(e) => setToken(e.target.value)} />
        <Form.Text>
          A reader, operator or admin token. An admin makes one with <code>kesmo token add NAME --role reader</code>; the first
          admin&apos;s is in the data folder, in <code>admin-token</code>.
        </Form.Text>
        {signIn.error ? (
          <p role="alert" className="tone-failed mt-2">
            ◆ {signIn.error.message}
          </p>
        ) : null}
        <Button type="submit" className="mt-3 d-block" disabled={token.trim() === ""}>
          Sign in
        </Button>
      </Form>
    </main>
  );
}
