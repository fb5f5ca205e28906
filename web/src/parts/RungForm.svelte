<script lang="ts">
  // What a rung can be told beside what stands in its row.
  import { type Field, get, pictureGroups, set, soundGroup, soundOnly } from "../lib/rung";
  import type { Image, Rung } from "../lib/types";
  let {
    rung,
    images,
    touch,
    add,
  }: { rung: Rung; images: Image[]; touch: () => void; add: (file: File) => Promise<string | undefined> } =
    $props();

  /** upload adds an image and uses it. */
  async function upload(f: Field, files: FileList | null) {
    const name = files?.[0] && (await add(files[0]));
    if (name) put(f, name);
  }

  const groups = $derived([
    ...(rung.source || soundOnly(rung) ? [] : pictureGroups),
    ...(rung.audioBitrate ? [soundGroup] : []),
  ]);
  function put(f: Field, text: string) {
    const numeric = f.kind === "number" || (f.kind === "choice" && /^-?\d+$/.test(text));
    const value = text === "" ? undefined : numeric ? Number(text) * (f.unit ?? 1) : text;
    set(rung, f.path, value);
    touch();
  }
  const shown = (f: Field) => {
    const v = get(rung, f.path);
    return v === undefined || v === 0
      ? ""
      : f.unit && f.unit > 1
        ? Math.round(Number(v) / f.unit)
        : String(v);
  };
</script>

<div class="bg-base-200 rounded-box grid gap-3 p-3" data-rung-form={rung.name}>
  {#each groups as g (g.title)}
    <fieldset class="grid gap-1">
      <legend class="text-xs font-semibold">{g.title}</legend>
      <div class="flex flex-wrap gap-x-4 gap-y-2">
        {#each g.fields as f (f.path.join("."))}
          <label class={["grid gap-0.5 text-xs", f.kind === "check" && "self-end"]}>
            {#if f.kind === "check"}
              <span class="flex items-center gap-1.5"
                ><input
                  type="checkbox"
                  class="checkbox checkbox-xs"
                  checked={Boolean(get(rung, f.path))}
                  onchange={(e) => {
                    set(rung, f.path, e.currentTarget.checked || undefined);
                    touch();
                  }}
                />{f.label}</span
              >
            {:else}
              <span class="label-quiet">{f.label}</span>
              {#if f.kind === "choice" || f.kind === "image"}
                <select
                  class="select select-xs w-36"
                  value={shown(f)}
                  onchange={(e) => put(f, e.currentTarget.value)}
                >
                  {#if f.kind === "image"}
                    <option value="">{images.length ? "none" : "none; add an image first"}</option>
                    {#each images as i (i.name)}<option value={i.name}>{i.name}</option>{/each}
                  {:else}
                    {#each f.choices ?? [] as [id, text] (id)}<option value={id}>{text}</option>{/each}
                  {/if}
                </select>
              {:else}
                <input
                  class="input input-xs w-24"
                  type={f.kind === "number" ? "number" : "text"}
                  value={shown(f)}
                  placeholder={f.empty}
                  oninput={(e) => put(f, e.currentTarget.value.trim())}
                />
              {/if}
            {/if}
          </label>
          {#if f.kind === "image"}
            <label class="btn btn-xs self-end"
              >Add a PNG …<input
                type="file"
                accept="image/png"
                class="sr-only"
                onchange={(e) => void upload(f, e.currentTarget.files)}
              /></label
            >
          {/if}
        {/each}
      </div>
    </fieldset>
  {:else}
    <p class="label-quiet">
      The source passes through unchanged. Set an audio bitrate to re-encode the audio.
    </p>
  {/each}
</div>
