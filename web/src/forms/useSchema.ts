import { zodResolver } from "@hookform/resolvers/zod";
import { useForm, type DefaultValues, type FieldValues } from "react-hook-form";
import type { ZodType } from "zod";

/** A form that follows one schema: what is wrong with a field is said once it was left, and taken back as soon as it is right. */
export function useSchema<T extends FieldValues>(schema: ZodType<T, T>, defaultValues: DefaultValues<T>) {
  return useForm<T>({ resolver: zodResolver(schema), defaultValues, mode: "onTouched" });
}
