export { followSession, type FollowOptions, type SessionNow } from "./follow-session.js";
