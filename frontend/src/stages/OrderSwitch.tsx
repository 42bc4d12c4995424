/** The order of a worklist: what is furthest off first, or by time. */
import { SegmentedControl } from "@mantine/core";
import { type Order, useView } from "../model/view/view";

export function OrderSwitch({ worst }: { worst: string }) {
  const order = useView((s) => s.order);
  return (
    <SegmentedControl
      size="xs"
      aria-label="Order"
      value={order}
      onChange={(value) => useView.setState({ order: value as Order })}
      data={[
        { value: "worst", label: worst },
        { value: "time", label: "by time" },
      ]}
    />
  );
}
