// The player as a module: importing it defines the element metaplasis-player.
import "./Element.svelte";
