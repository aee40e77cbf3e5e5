import { serve } from "@hono/node-server";
import { Hono } from "hono";
import { createSignIn } from "tenonsaw/server";
import { openSqliteStore } from "tenonsaw/stores/sqlite";
