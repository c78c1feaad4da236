import { Flex } from "@chakra-ui/react";
import { type KeyboardEvent, type ReactNode, useEffect, useRef } from "react";

interface Props {
  name: string;
  keys: (event: KeyboardEvent) => void;
  close: () => void;
  children: ReactNode;
}

/** One thing over the whole view, below the header; Escape goes back. */
export function FullView({ name, keys, close, children }: Props) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => box.current?.focus(), []);
  return (
    <Flex
      ref={box}
      role="dialog"
      aria-label={name}
      tabIndex={-1}
      position="fixed"
      top="40px"
      left={0}
      right={0}
      bottom={0}
      bg="bg"
      zIndex={10}
      outline="none"
      onKeyDown={(event) => (event.key === "Escape" ? close() : keys(event))}
    >
      {children}
    </Flex>
  );
}
