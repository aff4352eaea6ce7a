import { Button } from "@mantine/core";
import { useState } from "react";
import { useNavigate } from "react-router";
import { useRemoveModel, type ModelCard } from "../../api/models";
import { Confirm } from "../../parts/Confirm";
import { Failed } from "../../parts/states";

/** The way out of the registry. */
export function RemoveModel({ card }: { card: ModelCard }) {
  const [asked, setAsked] = useState(false);
  const navigate = useNavigate();
  const remove = useRemoveModel(() => void navigate("/models"));
  return (
    <>
      <Button size="compact-xs" variant="default" mt="md" onClick={() => setAsked(true)}>Remove this model</Button>
      {remove.error && <Failed error={remove.error} title="This was refused" />}
      {asked && (
        <Confirm title={`Remove ${card.name}?`} action="Remove" busy={remove.isPending} onConfirm={() => { setAsked(false); remove.mutate(card.name); }} onClose={() => setAsked(false)}>
          Its files go, and no shelf can be published with it. A shelf that serves it keeps it from being removed.
        </Confirm>
      )}
    </>
  );
}
