// What pages share: a page about what is asked for shows what hinders it, or that it is being read, and else itself.

import type { UseQueryResult } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { Empty, Loading, Trouble } from "./Frame";

interface Asked<T> {
  query: UseQueryResult<T, Error>;
  /** What is read, as in "Reading the briefs …". */
  what: string;
}

/** A page about one thing. */
export function DetailPage<T>({ query, what, children }: Asked<T> & { children: (one: T) => ReactNode }) {
  if (query.error) return <Trouble error={query.error} />;
  if (query.data === undefined) return <Loading what={what} />;
  return <>{children(query.data)}</>;
}

/** A page with a list: how many there are, or what to do where there is none. */
export function ListPage<T>({
  query,
  what,
  one,
  none,
  before,
  children,
}: Asked<T[]> & {
  /** The word for one of them; an s makes it several. */
  one: string;
  none: ReactNode;
  /** Stands above the list, and also where there is none. */
  before?: ReactNode;
  children: (all: T[]) => ReactNode;
}) {
  return (
    <DetailPage query={query} what={what}>
      {(all) =>
        all.length === 0 ? (
          <>
            <Empty>{none}</Empty>
            {before}
          </>
        ) : (
          <>
            <h1 className="figure">{all.length === 1 ? `1 ${one}` : `${all.length} ${one}s`}</h1>
            {before}
            {children(all)}
          </>
        )
      }
    </DetailPage>
  );
}
