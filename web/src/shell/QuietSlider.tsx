import { Slider } from "@chakra-ui/react";

interface Props {
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
export function QuietSlider({ label, value, min, max, step = 1, width, change }: Props) {
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
