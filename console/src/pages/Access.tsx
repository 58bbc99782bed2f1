// Lets in who is signed in, and signs in who brings a name with its password or a token: typed, or behind the # of a sign-in link. Lets
// who has a link choose a password.

import { type FormEvent, type ReactNode, useEffect, useState } from "react";
import { Button, Form } from "react-bootstrap";

import { useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";

import { Refused, useMe, whenSessionEnds } from "../data/api";
import { plain } from "../parts/words";
import { useChoosePassword, useComeBack, useGoToProvider, useProvider, useSignIn } from "../data/people";

export function Access({ children }: { children: ReactNode }) {
  const me = useMe();
  const signIn = useSignIn();
  const [token, setToken] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [byToken, setByToken] = useState(false);
  const [key, setKey] = useState("");
  const { mutate } = signIn;
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  const navigate = useNavigate();
  const back = useComeBack();
  const { mutate: comeBack } = back;
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
      if (location.pathname === "/signed-in") {
        const brought = new URLSearchParams(location.search);
        const [state, code, error] = ["state", "code", "error"].map((key) => brought.get(key) ?? "");
        const error_description = brought.get("error_description") ?? "";
        // A code is good once: nobody is to find it in the history.
        void navigate(where.take(), { replace: true });
        if (state || code || error) comeBack({ state, code, error, error_description });
        return;
      }
      const behind = new URLSearchParams(location.hash.slice(1));
      const [linked, chosen] = [behind.get("token"), location.pathname === "/password" ? behind.get("key") : null];
      if (!linked && !chosen) return;
      history.replaceState(null, "", location.pathname + location.search);
      if (chosen) setKey(chosen);
      else if (linked) mutate({ token: linked });
    };
    take();
    // A link may be followed on a page that is open already.
    addEventListener("hashchange", take);
    return () => removeEventListener("hashchange", take);
  }, [mutate, comeBack, navigate]);

  if (key) return <Choose linked={key} />;
  if (me.data) return children;
  if (me.isPending || signIn.isPending || back.isPending) return <p className="empty-page loading">Signing in …</p>;
  const unreachable = me.error instanceof Refused && me.error.status !== 401 && me.error.status !== 403;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate(byToken ? { token } : { name: name.trim(), password });
  };
  return (
    <main className="sign-in">
      <h1>Kesmo</h1>
      {unreachable ? <p role="alert">{me.error?.message}</p> : null}
      {ended && !unreachable ? <p role="alert">Your session has ended. Sign in again to go on where you were.</p> : null}
      <AtProvider said={back.error?.message} />
      <Form onSubmit={submit}>
        {byToken ? (
          <>
            <Form.Label htmlFor="token">Token</Form.Label>
            <Form.Control id="token" type="password" autoComplete="off" autoFocus value={token} onChange={(e) => setToken(e.target.value)} />
            <Form.Text>
              A reader, operator or admin token. An admin makes one with <code>kesmo token add NAME --role reader</code>; the first
              admin&apos;s is in the data folder, in <code>admin-token</code>.
            </Form.Text>
          </>
        ) : (
          <>
            <Form.Label htmlFor="name">Name</Form.Label>
            <Form.Control id="name" autoComplete="username" autoFocus value={name} onChange={(e) => setName(e.target.value)} />
            <Form.Label htmlFor="password" className="mt-2">
              Password
            </Form.Label>
            <Form.Control id="password" type="password" autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
            <Form.Text>An admin makes an account, and a link by which its password is chosen.</Form.Text>
          </>
        )}
        {signIn.error ? (
          <p role="alert" className="tone-failed mt-2">
            ◆ {signIn.error.message}
          </p>
        ) : null}
        <Button type="submit" className="mt-3 d-block" disabled={byToken ? token.trim() === "" : name.trim() === "" || password === ""}>
          Sign in
        </Button>
        <Button variant="link" className="mt-2 p-0" onClick={() => setByToken(!byToken)}>
          {byToken ? "With a name and a password" : "With a token"}
        </Button>
      </Form>
    </main>
  );
}

/** Where one was before signing in, kept in this tab while a provider is asked. */
const where = {
  keep: () => sessionStorage.setItem("kesmo-where", location.pathname + location.search),
  take: () => {
    const kept = sessionStorage.getItem("kesmo-where") ?? "/";
    sessionStorage.removeItem("kesmo-where");
    // Only ever a page of this console.
    return kept.startsWith("/") && !kept.startsWith("//") ? kept : "/";
  },
};

/** Signs in at the provider, where there is one. */
function AtProvider({ said }: { said: string | undefined }) {
  const provider = useProvider().data?.provider;
  const go = useGoToProvider();
  if (!provider) return null;
  const why = go.error?.message ?? said;
  return (
    <>
      <Button
        className="mb-2 d-block"
        disabled={go.isPending || go.isSuccess}
        onClick={() => {
          where.keep();
          go.mutate();
        }}
      >
        Sign in with {plain(provider)}
      </Button>
      {why ? (
        <p role="alert" className="tone-failed">
          ◆ {plain(why)}
        </p>
      ) : null}
      <p className="or">or</p>
    </>
  );
}

/** Chooses a password by a link. */
function Choose({ linked }: { linked: string }) {
  const choose = useChoosePassword();
  const [password, setPassword] = useState("");
  const submit = (event: FormEvent) => {
    event.preventDefault();
    choose.mutate({ key: linked, password });
  };
  return (
    <main className="sign-in">
      <h1>Kesmo</h1>
      {choose.data ? (
        <p role="status">
          The password of <span className="name">{choose.data.name}</span> is chosen. <a href="/">Sign in with it</a>.
        </p>
      ) : (
        <Form onSubmit={submit}>
          <Form.Label htmlFor="chosen">Choose a password</Form.Label>
          <Form.Control id="chosen" type="password" autoComplete="new-password" autoFocus value={password} onChange={(e) => setPassword(e.target.value)} />
          <Form.Text>Ten letters or more, of any kind, and none of those that are tried first: a few words that do not belong together are good.</Form.Text>
          {choose.error ? (
            <p role="alert" className="tone-failed mt-2">
              ◆ {choose.error.message}
            </p>
          ) : null}
          <Button type="submit" className="mt-3 d-block" disabled={password === "" || choose.isPending}>
            Choose it
          </Button>
        </Form>
      )}
    </main>
  );
}
