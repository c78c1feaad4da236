import { Box, Input, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";

interface Props {
  label: string;
  value: number | null;
  low: number;
  high: number;
  whole?: boolean;
  /** An empty field means “found by itself”. */
  optional?: boolean;
  width?: string;
  change: (value: number | null) => void;
}

/** A number to type; out of range it says what is allowed and keeps the old value. */
export function NumberField({ label, value, low, high, whole, optional, width = "84px", change }: Props) {
  const shown = value === null ? "" : String(Number(value.toFixed(4)));
  const [text, setText] = useState(shown);
  const [trouble, setTrouble] = useState("");
  useEffect(() => {
    setText(shown);
    setTrouble("");
  }, [shown]);
  const commit = () => {
    if (text.trim() === "" && optional) {
      setTrouble("");
      if (value !== null) change(null);
      return;
    }
    const typed = Number(text.replace(",", "."));
    if (text.trim() === "" || !Number.isFinite(typed) || (whole && !Number.isInteger(typed)))
      setTrouble(`a ${whole ? "whole " : ""}number, please`);
    else if (typed < low || typed > high) setTrouble(`from ${low} to ${high}`);
    else {
      setTrouble("");
      if (typed !== value) change(typed);
    }
  };
  return (
    <Box>
      <Input
        size="xs"
        width={width}
        aria-label={label}
        aria-invalid={trouble !== ""}
        inputMode="decimal"
        placeholder={optional ? "auto" : undefined}
        value={text}
        borderColor={trouble ? "loss" : "border"}
        onChange={(event) => setText(event.target.value)}
        onBlur={commit}
        onKeyDown={(event) => {
          if (event.key === "Enter") commit();
          if (event.key === "Escape") setText(shown);
        }}
      />
      {trouble && (
        <Text role="alert" fontSize="caption" color="loss">
          {trouble}
        </Text>
      )}
    </Box>
  );
}
