import { Argument, Command } from "commander";

/** What may come next at one place of a command line. */
interface Offer {
  readonly word: string;
  readonly about: string;
}

/** By place: the commands so far, and the option whose value is awaited. */
type Offers = ReadonlyMap<string, readonly Offer[]>;

const shells = { bash, zsh, fish } as const satisfies Record<string, (offers: Offers) => string>;

/** @param commands all commands there are */
export function completionCommand(commands: readonly Command[]): Command {
  const command = new Command("completion")
    .description("Print what makes a shell complete the words of this command.")
    .addArgument(new Argument("<shell>", "the shell").choices(Object.keys(shells)))
    .addHelpText(
      "after",
      `
Examples:
  tenonsaw completion bash > ~/.local/share/bash-completion/completions/tenonsaw
  tenonsaw completion zsh  > ~/.zsh/_tenonsaw       (a folder of $fpath, before compinit)
  tenonsaw completion fish > ~/.config/fish/completions/tenonsaw.fish

Exit code: 0 printed, 2 no such shell.`,
    );
  return command.action((shell: keyof typeof shells) => {
    console.log(shells[shell](offersOf([...commands, command])));
  });
}

function offersOf(commands: readonly Command[]): Offers {
  const offers = new Map<string, readonly Offer[]>();
  const visit = (place: string, command: Command | undefined, below: readonly Command[]) => {
    const choices = command?.registeredArguments.flatMap(({ argChoices }) => argChoices ?? []) ?? [];
    const options = command?.options.filter(({ hidden, long }) => !hidden && long) ?? [];
    offers.set(place, [
      ...below.map((each) => ({ word: each.name(), about: each.description() })),
      ...choices.map((word) => ({ word, about: "" })),
      ...options.map(({ long, description }) => ({ word: long ?? "", about: description })),
      { word: "--help", about: "display help for command" },
    ]);
    for (const { long, argChoices } of options)
      if (argChoices)
        offers.set(
          `${place} ${long ?? ""}`,
          argChoices.map((word) => ({ word, about: "" })),
        );
    for (const each of below) visit(`${place} ${each.name()}`.trim(), each, each.commands);
  };
  visit("", undefined, commands);
  return offers;
}

const placesOf = (offers: Offers) => [...offers.keys()].filter((place) => place !== "");
const quote = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

/** Options where an option is begun, else the rest; files where nothing fits. */
function bash(offers: Offers): string {
  const places = [...offers].map(
    ([place, words]) => `    ${quote(place)}) words=${quote(words.map(({ word }) => word).join(" "))} ;;`,
  );
  return `# tenonsaw: completion for bash
_tenonsaw() {
  local here="" each next words=""
  for each in "\${COMP_WORDS[@]:1:COMP_CWORD-1}"; do
    next="\${here:+$here }$each"
    case "$next" in
      ${placesOf(offers).map(quote).join("|")}) here="$next" ;;
      *) here="\${here%% --*}" ;;
    esac
  done
  case "$here" in
${places.join("\n")}
  esac
  [[ "$2" != -* ]] && words=" $words" && words="\${words// --[a-z0-9-]*/}"
  COMPREPLY=($(compgen -W "$words" -- "$2"))
}
complete -o default -F _tenonsaw tenonsaw`;
}

function zsh(offers: Offers): string {
  const described = ({ word, about }: Offer) => quote(about === "" ? word : `${word}:${about}`);
  const places = [...offers].map(
    ([place, words]) => `    (${quote(place)}) offers=(${words.map(described).join(" ")}) ;;`,
  );
  return `#compdef tenonsaw
# tenonsaw: completion for zsh
_tenonsaw() {
  local here="" each next
  local -a offers
  for each in "\${words[@]:1:$((CURRENT - 2))}"; do
    next="\${here:+$here }$each"
    case "$next" in
      (${placesOf(offers).map(quote).join("|")}) here="$next" ;;
      (*) here="\${here%% --*}" ;;
    esac
  done
  case "$here" in
${places.join("\n")}
  esac
  _describe tenonsaw offers || _files
}
if [[ "$funcstack[1]" == _tenonsaw ]]; then _tenonsaw "$@"; else compdef _tenonsaw tenonsaw; fi`;
}

function fish(offers: Offers): string {
  const escaped = (text: string) => `'${text.replaceAll("\\", "\\\\").replaceAll("'", "\\'")}'`;
  const lines = [...offers].flatMap(([place, words]) =>
    words.map(({ word, about }) =>
      [
        `complete -c tenonsaw -n "__tenonsaw_at ${escaped(place)}"`,
        word.startsWith("--") ? `-l ${word.slice(2)}` : `-f -a ${word}`,
        ...(about === "" ? [] : [`-d ${escaped(about)}`]),
      ].join(" "),
    ),
  );
  return `# tenonsaw: completion for fish
function __tenonsaw_at
  set -l here
  for each in (commandline -opc)[2..]
    set -l next (string join -- ' ' $here $each)
    if contains -- $next ${placesOf(offers).map(escaped).join(" ")}
      set here $next
    else
      set here (string replace -r -- ' --.*' '' "$here")
    end
  end
  test "$here" = "$argv[1]"
end
${lines.join("\n")}`;
}
