// Which workspace the screen is about, and what the person may do in it. It stands first in the address.
import { createContext, useContext } from "react";
import type { Workspace } from "../api/client";

export const WorkspaceContext = createContext<Workspace | null>(null);

/** The workspace with the person's role in it. */
export function useOwnWorkspace(): Workspace {
  const found = useContext(WorkspaceContext);
  if (!found) throw new Error("A view is shown outside of a workspace.");
  return found;
}
export const useWorkspace = () => useOwnWorkspace().id;

const RANK: Record<Workspace["role"], number> = { reader: 1, judge: 2, editor: 3, owner: 4 };
/** Whether the person's role is at least this one. */
export const useMay = (role: Workspace["role"]) => RANK[useOwnWorkspace().role] >= RANK[role];

const LAST = "doppio-workspace";
const PREFIX = /^\/w\/(\d+)(?=\/|$)/;

export const addressOf = (workspace: number, path = "/") => `/w/${workspace}${path}`;

/** The workspace that an address names; null where it names none. */
export const namedIn = (path: string): number | null => {
  const found = PREFIX.exec(path);
  return found ? Number(found[1]) : null;
};

/** The one that is opened where the address names none: the one last used here, or the first. */
export function chosenOf(list: Workspace[], path: string): Workspace | undefined {
  const named = namedIn(path);
  if (named !== null) return list.find((one) => one.id === named);
  const last = Number(window.localStorage.getItem(LAST));
  return list.find((one) => one.id === last) ?? list[0];
}
export const remember = (workspace: number) => window.localStorage.setItem(LAST, String(workspace));
