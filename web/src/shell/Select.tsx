import { NativeSelect } from "@chakra-ui/react";

interface Props<T extends string> {
  name: string;
  value: T;
  /** What each value is called, in the order of the list. */
  options: Record<T, string>;
  width?: string;
  change: (value: T) => void;
}

/** One of a few words, from a list that unfolds. */
export function SelectOne<T extends string>({ name, value, options, width, change }: Props<T>) {
  return (
    <NativeSelect.Root size="xs" {...(width ? { width } : {})}>
      <NativeSelect.Field aria-label={name} value={value} onChange={(event) => change(event.target.value as T)}>
        {Object.entries<string>(options).map(([word, said]) => (
          <option key={word} value={word}>
            {said}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}
