import { Checkbox, Flex } from "@chakra-ui/react";
import { useView, type Wish } from "../state/view";
import { NumberField } from "./NumberField";
import { SelectOne } from "./Select";

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
