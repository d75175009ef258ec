import "./forms.js";
import { watchHtmx } from "./say.js";

watchHtmx();
