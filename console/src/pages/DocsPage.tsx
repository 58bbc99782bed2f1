// The docs within the console: read, searched, and the calls of the API by its document.

import { type ReactNode, useEffect, useState } from "react";
import { Form, Table } from "react-bootstrap";
import Markdown, { type Components } from "react-markdown";
import { Link, useLocation, useParams, useSearchParams } from "react-router";
import remarkGfm from "remark-gfm";

import { type Doc, anchor, lineWith, search, useDocs, useOperations } from "../data/docs";
import { Alarm, Loading } from "../parts/Frame";

const textOf = (node: ReactNode): string => {
  if (typeof node === "string" || typeof node === "number") return String(node);
  if (Array.isArray(node)) return node.map(textOf).join("");
  if (node && typeof node === "object" && "props" in node) return textOf((node.props as { children?: ReactNode }).children);
  return "";
};

/** Where a link of a doc leads within the console; none if it leads nowhere here. */
function target(href: string): string | null {
  const doc = /^([a-z-]+)\.md(#.*)?$/.exec(href);
  if (doc) return `/docs/${doc[1]}${doc[2] ?? ""}`;
  return href.startsWith("#") ? href : null;
}

const PARTS: Components = {
  h2: ({ children }) => <h2 id={anchor(textOf(children))}>{children}</h2>,
  h3: ({ children }) => <h3 id={anchor(textOf(children))}>{children}</h3>,
  h4: ({ children }) => <h4 id={anchor(textOf(children))}>{children}</h4>,
  a: ({ href, children }) => {
    const to = target(href ?? "");
    if (to) return <Link to={to}>{children}</Link>;
    if (href === "report.schema.json") return <a href="/api/report-schema">{children}</a>;
    return /^https?:/.test(href ?? "") ? <a href={href} rel="noreferrer">{children}</a> : <span className="name">{children}</span>;
  },
  table: ({ children }) => (
    <Table size="sm" className="dense">
      {children}
    </Table>
  ),
  pre: ({ children }) => (
    <pre className="command" tabIndex={0}>
      {children}
    </pre>
  ),
};

export function DocsPage() {
  const { name } = useParams();
  const docs = useDocs();
  const { pathname, hash } = useLocation();
  const [asked] = useSearchParams();
  const [words, setWords] = useState(asked.get("find") ?? "");
  // Who goes to a page has found what was looked for.
  const place = `${pathname}${hash}`;
  const [was, setWas] = useState(place);
  if (was !== place) {
    setWas(place);
    setWords("");
  }
  if (docs.error) return <Alarm said={docs.error.message} />;
  if (!docs.data) return <Loading what="the docs" />;
  const one = docs.data.find((doc) => doc.name === name);
  return (
    <div className="docs-columns">
      <nav aria-label="Docs">
        <Form.Control size="sm" type="search" aria-label="Find in the docs" placeholder="find in the docs" value={words} onChange={(e) => setWords(e.target.value)} />
        <ul className="plain-list">
          {docs.data.map((doc) => (
            <li key={doc.name}>
              <Link to={`/docs/${doc.name}`} aria-current={doc.name === name ? "page" : undefined}>
                {doc.title}
              </Link>
            </li>
          ))}
          <li>
            <Link to="/docs/api" aria-current={name === "api" ? "page" : undefined}>
              The calls of the API
            </Link>
          </li>
        </ul>
      </nav>
      <article className="doc">{words.trim() ? <Found docs={docs.data} words={words} /> : name === "api" ? <Api /> : one ? <Shown doc={one} /> : name ? <p>There is no page {name} in the docs.</p> : <Shown doc={docs.data[0]} />}</article>
    </div>
  );
}

function Shown({ doc }: { doc: Doc }) {
  const { hash } = useLocation();
  useEffect(() => {
    if (hash) document.getElementById(decodeURIComponent(hash.slice(1)))?.scrollIntoView();
    else window.scrollTo(0, 0);
  }, [hash, doc]);
  return (
    <Markdown remarkPlugins={[remarkGfm]} components={PARTS}>
      {doc.text}
    </Markdown>
  );
}

function Found({ docs, words }: { docs: Doc[]; words: string }) {
  const found = search(docs, words);
  if (found.length === 0) return <p>Nothing in the docs has all of these words: {words}</p>;
  return (
    <>
      <h1 className="figure">{found.length === 1 ? "1 part" : `${found.length} parts`}</h1>
      <ul className="plain-list">
        {found.map((section, place) => (
          <li key={`${place}/${section.doc.name}#${section.heading}`}>
            <Link to={`/docs/${section.doc.name}${section.heading === section.doc.title ? "" : `#${anchor(section.heading)}`}`}>{section.heading}</Link> <small>in {section.doc.title}</small>
            <div className="why">{lineWith(section, words)}</div>
          </li>
        ))}
      </ul>
    </>
  );
}

/** Every call, by its subject. */
function Api() {
  const operations = useOperations();
  if (operations.error) return <Alarm said={operations.error.message} />;
  if (!operations.data) return <Loading what="the calls" />;
  const tags = [...new Set(operations.data.map((o) => o.tag))].sort();
  return (
    <>
      <h1>The calls of the API</h1>
      <p>
        As <a href="/api/openapi.json">an OpenAPI document</a>, too. A token goes with each call: <code>Authorization: Bearer TOKEN</code>. Who may call what: <Link to="/docs/rights">here</Link>.
      </p>
      {tags.map((tag) => (
        <section key={tag} aria-label={tag}>
          <h2 id={tag}>{tag}</h2>
          {operations.data
            .filter((o) => o.tag === tag)
            .map((o) => (
              <div key={`${o.method} ${o.path}`} className="operation">
                <code>
                  {o.method} {o.path}
                </code>
                <p>{o.about}</p>
                <small>
                  {o.parameters.map((p) => `${p.name}${p.needed ? "" : " (if wanted)"} in the ${p.place}`).join(", ")}
                  {o.parameters.length > 0 ? "; " : ""}answers {o.answers.join(", ")}
                </small>
              </div>
            ))}
        </section>
      ))}
    </>
  );
}
