import { useQuery } from "@tanstack/react-query";
import { type Body, useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** How long the past is kept. */
export const useKeeping = () => useQuery({ queryKey: keys.keeping(), queryFn: () => must(api.GET("/api/keeping")) });

/** Says how long the past is kept. */
export const useSetKeeping = () =>
  useAction((body: Body<"/api/keeping", "put">) => must(api.PUT("/api/keeping", { body })), [keys.keeping()], "quiet");
