// What all engines of the player have in common.

/** One of several qualities to choose from. */
export interface Quality {
  id: string; // the rendition's name
  label: string;
  rate: number;
}

/** One of several tracks of sound, or of text, to choose from. */
export interface Sound {
  id: string;
  label: string;
  language?: string;
}

export interface Showing {
  id: string;
  size: string;
}

/** What an engine tells of. */
export interface Listener {
  qualities(list: Quality[]): void;
  showing(now: Showing): void;
  sounds(list: Sound[], chosen: string): void;
  texts(list: Sound[]): void; // captions and subtitles
  failed(details: string): void;
}

/** An Engine plays one address on a video element. */
export interface Engine {
  choose(id: string): void; // "" lets the player choose
  listen(id: string): void; // to one of the tracks of sound
  read(id: string): void; // shows one of the tracks of text, none with ""
  toLive(): void;
  behind(): number; // seconds behind the wall clock of what is shown, NaN when not known
  target(): number; // seconds that the player aims at, NaN when not known
  close(): void;
}
