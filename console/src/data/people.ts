// Accounts and sessions, as the console asks for them.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { type Me, call } from "./api";

export type Account = components["schemas"]["Account"];
export type PasswordLink = components["schemas"]["PasswordLink"];
export type Session = components["schemas"]["Session"];
export type Role = components["schemas"]["Role"];

function useChange<In, Out>(key: string, change: (given: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => queries.invalidateQueries({ queryKey: [key] }) });
}

export const useAccounts = () => useQuery({ queryKey: ["accounts"], queryFn: ({ signal }) => call<Account[]>("/api/accounts", { signal }) });
export const useAddAccount = () => useChange("accounts", (body: { name: string; role: Role; suites: string[] }) => call<PasswordLink>("/api/accounts", { method: "POST", body }));
export const useLinkAccount = () => useChange("accounts", (name: string) => call<PasswordLink>(`/api/accounts/${name}/link`, { method: "POST", body: {} }));
export const useChangeAccount = () => useChange("accounts", ({ name, ...body }: { name: string; role: Role; suites?: string[] }) => call<void>(`/api/accounts/${name}`, { method: "PUT", body }));
export const useRemoveAccount = () => useChange("accounts", (name: string) => call<void>(`/api/accounts/${name}`, { method: "DELETE" }));

export const useSessions = (all: boolean) => useQuery({ queryKey: ["sessions", all], queryFn: ({ signal }) => call<Session[]>(`/api/sessions${all ? "?all=true" : ""}`, { signal }) });
export const useEndSession = () => useChange("sessions", (id: number) => call<void>(`/api/sessions/${id}`, { method: "DELETE" }));
export const useChangePassword = () => useChange("sessions", (body: { old: string; new: string }) => call<void>("/api/me/password", { method: "PUT", body }));
export const useChoosePassword = () => useMutation({ mutationFn: (body: { key: string; password: string }) => call<{ name: string }>("/api/password", { method: "POST", body }) });

/** Signs out: what was seen is forgotten, and the sign-in form is shown. */
export function useSignOut() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => call<void>("/api/session", { method: "DELETE" }),
    onSuccess: () => {
      queries.clear();
      location.assign("/");
    },
  });
}

/** The name of the provider at which people sign in, besides here. */
export const useProvider = () => useQuery({ queryKey: ["provider"], queryFn: ({ signal }) => call<components["schemas"]["SignInAt"]>("/api/provider", { signal }), staleTime: Infinity });
/** Goes to the provider; it leads back to /signed-in. */
export const useGoToProvider = () =>
  useMutation({
    mutationFn: () => call<{ address: string }>("/api/provider/begin", { method: "POST", body: {} }),
    onSuccess: ({ address }) => location.assign(address),
  });
export type CameBack = components["schemas"]["CameBack"];
export function useComeBack() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Partial<CameBack>) => call<Me>("/api/provider/end", { method: "POST", body }),
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
}
export const useAddOwnToken = () => useChange("accounts", (body: { place: string }) => call<components["schemas"]["Token"]>("/api/me/tokens", { method: "POST", body }));

export type SignIn = { token: string } | { name: string; password: string };

export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: SignIn) => call<Me>("/api/session", { method: "POST", body }),
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
}
