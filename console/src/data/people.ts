// Accounts and sessions, as the console asks for them.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import type { components } from "../generated/api";
import { api, some, told } from "./api";

export type Account = components["schemas"]["Account"];
export type PasswordLink = components["schemas"]["PasswordLink"];
export type Session = components["schemas"]["Session"];
export type Role = components["schemas"]["Role"];

function useChange<In, Out>(key: string, change: (given: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSettled: () => queries.invalidateQueries({ queryKey: [key] }) });
}

export const useAccounts = () => useQuery({ queryKey: ["accounts"], queryFn: ({ signal }) => told(api.GET("/api/accounts", { signal })) });
export const useAddAccount = () => useChange("accounts", (body: { name: string; role: Role; suites: string[] }) => told(api.POST("/api/accounts", { body })));
export const useLinkAccount = () => useChange("accounts", (name: string) => told(api.POST("/api/accounts/{name}/link", { params: { path: { name } } })));
export const useChangeAccount = () => useChange("accounts", ({ name, ...body }: { name: string; role: Role; suites?: string[] }) => told(api.PUT("/api/accounts/{name}", { params: { path: { name } }, body })));
export const useRemoveAccount = () => useChange("accounts", (name: string) => told(api.DELETE("/api/accounts/{name}", { params: { path: { name } } })));

export const useSessions = (all: boolean) => useQuery({ queryKey: ["sessions", all], queryFn: ({ signal }) => told(api.GET("/api/sessions", { params: { query: { all } }, signal })) });
export const useEndSession = () => useChange("sessions", (id: number) => told(api.DELETE("/api/sessions/{id}", { params: { path: { id } } })));
export const useChangePassword = () => useChange("sessions", (body: { old: string; new: string }) => told(api.PUT("/api/me/password", { body })));
export const useChoosePassword = () => useMutation({ mutationFn: (body: { key: string; password: string }) => told(api.POST("/api/password", { body })) });

/** Signs out: what was seen is forgotten, and the sign-in form is shown. */
export function useSignOut() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: () => told(api.DELETE("/api/session")),
    onSuccess: () => {
      queries.clear();
      location.assign("/");
    },
  });
}

/** The name of the provider at which people sign in, besides here. */
export const useProvider = () => useQuery({ queryKey: ["provider"], queryFn: ({ signal }) => told(api.GET("/api/provider", { signal })), staleTime: Infinity });
/** Goes to the provider; it leads back to /signed-in. */
export const useGoToProvider = () =>
  useMutation({
    mutationFn: () => told(api.POST("/api/provider/begin")),
    onSuccess: ({ address }) => location.assign(address),
  });
export type CameBack = components["schemas"]["CameBack"];
export function useComeBack() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Partial<CameBack>) => told(api.POST("/api/provider/end", { body: some(body) })),
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
}
export const useAddOwnToken = () => useChange("accounts", (body: { place: string }) => told(api.POST("/api/me/tokens", { body: some(body) })));

export type SignIn = { token: string } | { name: string; password: string };

export function useSignIn() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: SignIn) => told(api.POST("/api/session", { body: some(body) })),
    onSuccess: (me) => queries.setQueryData(["me"], me),
  });
}
