import { mount } from "svelte";
import "./app.css";
import Contribute from "./pages/Contribute.svelte";

mount(Contribute, { target: document.getElementById("app")! });
