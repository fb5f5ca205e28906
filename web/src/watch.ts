import { mount } from "svelte";
import "./app.css";
import Watch from "./pages/Watch.svelte";

mount(Watch, { target: document.getElementById("app")! });
