// Which workspace the screen is about.
import { createContext, useContext } from "react";

export const WorkspaceContext = createContext<number>(0);
export const useWorkspace = () => useContext(WorkspaceContext);
