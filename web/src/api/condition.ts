import { useQuery } from "@tanstack/react-query";
import { useAction } from "./actions";
import { api, must } from "./client";
import { keys } from "./keys";

/** Whether the installation is well. It is looked at again every half minute. */
export const useCondition = (wanted = true) =>
  useQuery({
    queryKey: keys.condition(),
    queryFn: () => must(api.GET("/api/condition")),
    refetchInterval: 30_000,
    enabled: wanted,
  });

/** Has the server make a backup now. */
export const useMakeBackup = () => useAction(() => must(api.POST("/api/backups")), [keys.condition()], "quiet");
