import { describeProcesses } from "./support/refresh-suite.js";

describeProcesses("postgres");
