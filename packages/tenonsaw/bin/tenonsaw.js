#!/usr/bin/env node
import "../bundle/cli/main.js";
