import { Box, Checkbox, Flex, Input, NativeSelect, Slider, Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { useView, type Wish } from "../state/view";

interface SelectProps<T extends string> {
  name: string;
  value: T;
  /** What each value is called, in the order of the list. */
  options: Record<T, string>;
  width?: string;
  change: (value: T) => void;
}

/** One of a few words, from a list that unfolds. */
export function SelectOne<T extends string>({ name, value, options, width, change }: SelectProps<T>) {
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

interface NumberFieldProps {
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
export function NumberField({ label, value, low, high, whole, optional, width = "84px", change }: NumberFieldProps) {
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

interface TextInPlaceProps {
  label: string;
  begin: string;
  maxLength: number;
  width?: string;
  placeholder?: string;
  /** Called with what was typed, and with null where nothing is to change. */
  settle: (text: string | null) => void;
}

/** A field in the place of a text while it is changed: Enter and leaving it take what was typed, Escape does not. */
export function TextInPlace({ label, begin, settle, ...more }: TextInPlaceProps) {
  const [text, setText] = useState(begin);
  return (
    <Input
      size="xs"
      autoFocus
      aria-label={label}
      value={text}
      onChange={(event) => setText(event.target.value)}
      onBlur={() => settle(text.trim())}
      onKeyDown={(event) => {
        if (event.key === "Enter") settle(text.trim());
        if (event.key === "Escape") settle(null);
      }}
      {...more}
    />
  );
}

const WAYS: Record<Wish["how"], string> = { variants: "variants of each", total: "images in all", class: "labels a class" };
const MOST = { variants: 1000, total: 10_000_000, class: 10_000_000 };
const FIELD = { variants: "variants", total: "total", class: "perClass" } as const;

/** How many training images are wished for, in one of three ways; the bench, the order and the trials show the same. */
export function WishControl({ each = "Variants of each training image" }: { each?: string }) {
  const wish = useView((view) => view.edition);
  const set = (change: Partial<Wish>) => useView.setState((view) => ({ edition: { ...view.edition, ...change } }));
  const field = FIELD[wish.how];
  return (
    <Flex align="center" gap={2} wrap="nowrap">
      <NumberField
        label={wish.how === "variants" ? each : wish.how === "total" ? "Training images in all" : "Labels of each class"}
        value={wish[field]}
        low={wish.how === "variants" ? 0 : 1}
        high={MOST[wish.how]}
        whole
        width={wish.how === "variants" ? "44px" : "64px"}
        change={(value) => set({ [field]: value ?? 1 })}
      />
      <SelectOne name="How many training images" value={wish.how} options={WAYS} width="124px" change={(how) => set({ how })} />
      {wish.how !== "class" && (
        <Tick
          on={wish.balance}
          label="balanced"
          title="More variants of images that show rare classes"
          change={(on) => set({ balance: on })}
        />
      )}
      <Tick
        on={wish.originals}
        label="+ originals"
        title="Write the originals of training images too"
        change={(on) => set({ originals: on })}
      />
    </Flex>
  );
}

function Tick({ on, label, title, change }: { on: boolean; label: string; title: string; change: (on: boolean) => void }) {
  return (
    <Checkbox.Root size="xs" checked={on} title={title} whiteSpace="nowrap" onCheckedChange={({ checked }) => change(checked === true)}>
      <Checkbox.HiddenInput />
      <Checkbox.Control />
      <Checkbox.Label fontWeight={400}>{label}</Checkbox.Label>
    </Checkbox.Root>
  );
}

interface QuietSliderProps {
  label: string;
  value: number;
  min: number;
  max: number;
  step?: number;
  /** How wide it is; as wide as there is room without it. */
  width?: string;
  change: (value: number) => void;
}

/** A slider of how things are looked at, as quiet as what it changes is unimportant to the pipeline. */
export function QuietSlider({ label, value, min, max, step = 1, width, change }: QuietSliderProps) {
  return (
    <Slider.Root
      size="sm"
      {...(width ? { width } : { flex: "1" })}
      min={min}
      max={max}
      step={step}
      value={[value]}
      aria-label={[label]}
      onValueChange={(details) => change(details.value[0] ?? value)}
    >
      <Slider.Control>
        <Slider.Track bg="bg.emphasized">
          <Slider.Range bg="fg.muted" />
        </Slider.Track>
        <Slider.Thumb index={0} bg="fg" borderColor="bg" boxSize={3} />
      </Slider.Control>
    </Slider.Root>
  );
}
