/** All sessions as cards, and a place to drop the next voice. */
import { ActionIcon, Anchor, Button, Group, Menu, Modal, Text, useComputedColorScheme } from "@mantine/core";
import { IconDots, IconPlus, IconSunMoon } from "@tabler/icons-react";
import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { queries } from "../api/cache";
import { api, type Card } from "../api/client";
import { SchemeItems } from "../frame/Header";
import { MessageBar } from "../frame/MessageBar";
import { useCards } from "../model/server/queries";
import { upload } from "../model/server/uploads";
import { span } from "../parts/format";
import { complain } from "../parts/messages";
import { NameDialog } from "../parts/NameDialog";
import { useRoving } from "../parts/roving";
import { PALETTES } from "../parts/theme";
import { Vial } from "../parts/Vial";
import { stateColour } from "../picture/scene";
import { DropArea, Readable } from "../stages/DropArea";
import { LooseRecordings } from "./LooseRecordings";
import "./SessionsPage.css";

export function SessionsPage() {
  const { data: cards, error } = useCards();
  const navigate = useNavigate();
  const roving = useRoving({ axis: "either" });
  const [naming, setNaming] = useState<string | null>(null);
  const [deleting, setDeleting] = useState<Card | null>(null);
  useEffect(() => {
    document.title = "Nivelus";
  }, []);

  const create = async (name: string, files: File[] = []) => {
    try {
      const session = await api.createSession(name);
      if (files.length) upload(session.id, files);
      navigate(`/s/${session.id}/survey`);
    } catch (problem) {
      complain(problem);
    }
  };
  const remove = async (card: Card) => {
    setDeleting(null);
    await api.deleteSession(card.id).catch(complain);
    await queries.invalidateQueries({ queryKey: ["cards"] });
  };

  return (
    <main className="sessions">
      <header className="sessions-head">
        <Group gap={12}>
          <Vial deviation={0} tolerance={1.5} width={72} height={28} />
          <div>
            <h1>Nivelus</h1>
            <Text size="sm" className="dim">
              Level a voice before the compressor. The fader stays free.
            </Text>
          </div>
        </Group>
        <Group gap={8}>
          <Menu position="bottom-end">
            <Menu.Target>
              <ActionIcon variant="default" size={30} aria-label="Day or night">
                <IconSunMoon size={16} />
              </ActionIcon>
            </Menu.Target>
            <Menu.Dropdown>
              <SchemeItems />
            </Menu.Dropdown>
          </Menu>
          <Button size="xs" leftSection={<IconPlus size={14} />} onClick={() => setNaming("")}>
            New session
          </Button>
        </Group>
      </header>
      <DropArea onFiles={(files) => void create(sessionName(files), files)}>
        <Text ta="center">Drop recordings or a folder here to begin a new session</Text>
        <Text size="xs" ta="center" className="dim">
          <Readable />
        </Text>
      </DropArea>
      {error && <p role="alert">{error.message}</p>}
      <LooseRecordings />
      <ul className="cards" ref={roving}>
        {cards?.map((card) => (
          <li key={card.id} className="card">
            <Anchor
              component={Link}
              to={`/s/${card.id}/${card.count ? "phrases" : "survey"}`}
              underline="never"
              className="card-link"
            >
              <Thumbnail card={card} />
              <span className="card-name">{card.name}</span>
            </Anchor>
            <div className="card-line">
              <Vial deviation={card.worst} tolerance={card.tolerance} width={52} height={17} />
              <span className="mono">{standing(card)}</span>
              <Menu position="bottom-end">
                <Menu.Target>
                  <ActionIcon size="sm" variant="subtle" aria-label={`More for ${card.name}`}>
                    <IconDots size={14} />
                  </ActionIcon>
                </Menu.Target>
                <Menu.Dropdown>
                  <Menu.Item onClick={() => setDeleting(card)}>Delete</Menu.Item>
                </Menu.Dropdown>
              </Menu>
            </div>
            <Text size="xs" className="dim">
              {card.broken ||
                [
                  card.tracks.join(", ") || "no recording yet",
                  card.duration ? span(card.duration) : "",
                  ago(card.touched),
                ]
                  .filter(Boolean)
                  .join(" · ")}
            </Text>
          </li>
        ))}
      </ul>
      <MessageBar apart />
      <NameDialog
        title="New session"
        action="Begin"
        name={naming}
        onClose={() => setNaming(null)}
        onName={(name) => void create(name)}
      />
      <Modal
        opened={deleting !== null}
        onClose={() => setDeleting(null)}
        title={`Delete “${deleting?.name}”?`}
        size="sm"
        centered
      >
        <Text size="sm">
          Its tracks, gains and history go for good. The files you brought in stay where you have them.
        </Text>
        <Group justify="flex-end" mt="md" gap="xs">
          <Button variant="default" onClick={() => setDeleting(null)}>
            Keep it
          </Button>
          <Button color="copper" onClick={() => deleting && void remove(deleting)}>
            Delete
          </Button>
        </Group>
      </Modal>
    </main>
  );
}

/** How far a session is, in a few words. */
function standing(card: Card): string {
  if (card.broken) return "cannot be read";
  if (card.asking) return "asks something";
  if (card.importing) return "importing";
  if (card.count) return `${card.level} of ${card.count} level`;
  if (card.tracks.length === 0) return "empty";
  if (card.beds < card.tracks.length) return "no phrases";
  return card.beds === 1 ? "1 bed" : `${card.beds} beds`;
}

/** The level chart of a session, small: one stroke per phrase around the band. */
function Thumbnail({ card }: { card: Card }) {
  const palette = PALETTES[useComputedColorScheme("light")];
  const [width, height, reach] = [280, 84, 15];
  const y = (value: number) => height / 2 - (Math.max(-reach, Math.min(reach, value)) / reach) * (height / 2 - 4);
  return (
    <svg viewBox={`0 0 ${width} ${height}`} className="thumbnail" aria-hidden="true">
      <rect
        x={0}
        y={y(card.tolerance)}
        width={width}
        height={y(-card.tolerance) - y(card.tolerance)}
        fill={palette.band}
      />
      <path d={`M0 ${height / 2}h${width}`} stroke={palette.grid} />
      {card.phrases.map((phrase) => (
        <rect
          key={phrase.start}
          x={4 + phrase.start * (width - 8)}
          y={y(phrase.deviation) - 2}
          width={Math.max((phrase.end - phrase.start) * (width - 8), 2)}
          height={4}
          rx={2}
          fill={stateColour(phrase.deviation, card.tolerance, palette)}
        />
      ))}
    </svg>
  );
}

/** A session that begins with a drop is called after its folder or its first file. */
export function sessionName(files: File[]): string {
  const path = (files[0] as (File & { path?: string }) | undefined)?.path ?? "";
  const folders = path.split("/").filter((part) => part && part !== ".");
  if (folders.length > 1) return folders[0]!;
  return files[0]?.name.replace(/\.[^.]+$/, "") || "New session";
}

export function ago(moment: string, now = Date.now()): string {
  const minutes = Math.round((now - new Date(moment).getTime()) / 60000);
  if (minutes < 2) return "just now";
  if (minutes < 60) return `${minutes} min ago`;
  if (minutes < 60 * 24) return `${Math.round(minutes / 60)} h ago`;
  return new Date(moment).toLocaleDateString();
}
