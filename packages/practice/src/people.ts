/** Somebody to sign in as. All of them are made up. */
export interface Person {
  /** The name in options and in the sign-in form. */
  readonly id: string;
  /** `sub` at every practice provider. */
  readonly subject: string;
  readonly name: string;
  readonly email?: string;
  readonly picture?: string;
  readonly roles: readonly string[];
  /** Where the person belongs at Harbour Union. */
  readonly organisation: string;
  readonly isSuspended: boolean;
}

export const people: readonly Person[] = [
  {
    id: "maren",
    subject: "qs-10231",
    name: "Maren Holt",
    email: "maren.holt@ferrywell.example",
    picture: "/pictures/maren.svg",
    roles: ["member", "coach"],
    organisation: "rowing-club",
    isSuspended: false,
  },
  {
    id: "zoe",
    subject: "qs-10447",
    name: "Zoë Łukasińska-Ōta",
    email: "zoe@ferrywell.example",
    picture: "/pictures/zoe.svg",
    roles: ["member"],
    organisation: "sailing-club",
    isSuspended: false,
  },
  {
    id: "ib",
    subject: "qs-10009",
    name: "Ib",
    roles: ["harbour-master"],
    organisation: "rowing-club",
    isSuspended: false,
  },
  {
    id: "corin",
    subject: "qs-10502",
    name: "Corin Vale",
    email: "corin.vale@ferrywell.example",
    roles: ["member"],
    organisation: "rowing-club",
    isSuspended: true,
  },
];
