#!/usr/bin/env python3
"""Manual pages and completion for shells, from what the program says of itself (`deeptrace --describe`), which is what its
help is made of.   usage: generate.py TOOL FOLDER"""
import json
import os
import re
import subprocess
import sys


def described(tool, *words):
    return json.loads(subprocess.run([tool, *words, "--describe"], capture_output=True, text=True, check=True).stdout)


# ---- manual pages


def roff(text):
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return "\n".join("\\&" + line if line[:1] in (".", "'") else line for line in text.split("\n"))


def heading(name, what, about):
    return [f'.TH {roff(name.upper())} 1 "" "Deep Trace {about["version"]}" "Deep Trace"', ".SH NAME",
            f"{roff(name)} \\- {roff(what)}"]


def example(text):
    return [".SH EXAMPLE", ".nf", roff(text), ".fi"]


STATUS = [("0", "fine"), ("1", "the answer is negative"), ("2", "wrong usage, location, plan or configuration"),
          ("3", "an unusable input file"), ("4", "the program could not be run, or ended before the place asked for"),
          ("130", "interrupted")]
FILES = [("~/.config/deeptrace/config.toml", "what is set for every command: keys are names of options (syntax, colour, "
          "uncut, own, debug-dir, source-moved, mangled), as in syntax = \"att\" or own = [\"/opt/tide/src\"]"),
         (".deeptrace.toml", "the same, in the current folder; it counts more, and options more than both. Lists add up.")]


def lists(title, rows):
    lines = [f".SH {title}"]
    for name, text in rows:
        lines += [".TP", f".B {roff(name)}", roff(text)]
    return lines


def command_page(command, about):
    name = "deeptrace-" + command["command"]
    lines = heading(name, command["answers"], about)
    lines += [".SH SYNOPSIS", f".B deeptrace {command['command']}", roff(command["arguments"])]
    lines += [".SH OPTIONS"]
    for group in command["groups"]:
        lines += [f".SS {roff(group['name'] or 'Options')}"]
        for option in group["options"]:
            lines += [".TP", f".B \\-\\-{roff(option['option'])}" + (f" \\fI{roff(option['value'])}\\fR" if option["value"] else "")]
            default = f" (default: {option['default']})" if option["default"] else ""
            lines += [roff(option["help"] + default)]
    if command["command"] == "console":
        lines += [".SH WORDS"]
        for word in about["words"]:
            lines += [".TP", f".B {roff(word['word'])}" + (f" \\fI{roff(word['arguments'])}\\fR" if word["arguments"] else ""),
                      roff(word["help"])]
    lines += example(command["example"]) + lists("EXIT STATUS", STATUS) + lists("FILES", FILES)
    return "\n".join(lines + [".SH SEE ALSO", ".BR deeptrace (1)"]) + "\n"


def main_page(commands, about):
    lines = heading("deeptrace", about["answers"], about)
    lines += [".SH SYNOPSIS", ".B deeptrace", ".I COMMAND", "[options] ...", ".SH COMMANDS"]
    for command in commands:
        lines += [".TP", f".BR deeptrace\\-{roff(command['command'])} (1)", roff(command["answers"])]
    lines += lists("EXIT STATUS", STATUS) + lists("FILES", FILES)
    lines += lists("ENVIRONMENT", [("DEEPTRACE_CONFIG", "a configuration file to be read in place of both; empty: none is"),
                                   ("NO_COLOR", "output is never coloured")])
    return "\n".join(lines + example("deeptrace listing ./tidelog level_sum")) + "\n"


# ---- completion

CHOICES = {"colour": "auto always never", "syntax": "intel att", "children": "leave trace", "stop-with": "auto byte hardware",
           "format": "text json csv none", "totals": "call descriptor line file"}
# Commands whose words after so many files are functions and places in the first.
WITH_PLACES = {"listing": 1, "lines": 1, "data": 1, "uses": 1, "explain": 1, "compare": 2}


def options_of(command):
    return [option for group in command["groups"] for option in group["options"]]


def kinds_of(command):
    """The words that the first one may be: "[bytes|instruction|flags] WORD..."."""
    found = re.search(r"\[([a-z]+(?:\|[a-z]+)+)\]", command["arguments"])
    return found.group(1).split("|") if found else []


def bash(commands):
    names = " ".join(command["command"] for command in commands)
    cases = "".join(
        f'    {command["command"]}) options="{" ".join("--" + option["option"] for option in options_of(command))}" ;;\n'
        for command in commands)
    choices = "".join(f'    --{name}) COMPREPLY=($(compgen -W "{words}" -- "$word")); return ;;\n'
                      for name, words in CHOICES.items())
    files = sorted({option["option"] for command in commands for option in options_of(command)
                    if option["value"] in ("FILE", "DIR", "PATH", "CORE")})
    kinds = "".join(f'    {command["command"]}:2) COMPREPLY=($(compgen -W "{" ".join(kinds_of(command))}" -- "$word")); return ;;\n'
                    for command in commands if kinds_of(command))
    places = "".join(f"    {name}) files={count} ;;\n" for name, count in WITH_PLACES.items())
    return f"""# Completion of deeptrace for bash.
_deeptrace() {{
  local word="${{COMP_WORDS[COMP_CWORD]}}" before="${{COMP_WORDS[COMP_CWORD-1]}}" options="" file="" files i
  if [ "$COMP_CWORD" -eq 1 ]; then
    COMPREPLY=($(compgen -W "{names} help --help --version" -- "$word"))
    return
  fi
  case "$before" in
{choices}    {"|".join("--" + name for name in files)}) COMPREPLY=($(compgen -f -- "$word")); return ;;
  esac
  case "${{COMP_WORDS[1]}}" in
{cases}  esac
  if [[ "$word" == -* ]]; then
    COMPREPLY=($(compgen -W "$options" -- "$word"))
    return
  fi
  case "${{COMP_WORDS[1]}}:$COMP_CWORD" in
{kinds}  esac
  case "${{COMP_WORDS[1]}}" in
{places}    *) files=0 ;;
  esac
  for ((i = 2; files > 0 && i < COMP_CWORD; i++)); do
    if [ -f "${{COMP_WORDS[i]}}" ]; then
      file="${{file:-${{COMP_WORDS[i]}}}}"
      ((--files > 0)) && continue
      COMPREPLY=($(compgen -W "$(deeptrace --names "$file" 2> /dev/null)" -- "$word"))
      return
    fi
  done
  COMPREPLY=($(compgen -f -- "$word"))
}}
complete -o filenames -F _deeptrace deeptrace
"""


def quoted(text):
    return text.replace("'", "'\\''")


def zsh(commands):
    lines = ["#compdef deeptrace", "# Completion of deeptrace for zsh.", "_deeptrace() {", "  local -a commands names",
             "  commands=("]
    lines += [f"    '{command['command']}:{quoted(command['answers'])}'" for command in commands]
    lines += ["  )", "  if (( CURRENT == 2 )); then", "    _describe command commands", "    return", "  fi",
              "  case $words[2] in"]
    for command in commands:
        lines += [f"    {command['command']})", "      _arguments -s \\"]
        for option in options_of(command):
            help_text = quoted(option["help"]).replace("[", "\\[").replace("]", "\\]").replace(":", "\\:")
            action = f":{option['value']}:({CHOICES[option['option']]})" if option["option"] in CHOICES else \
                f":{option['value'].replace(':', ' ')}:_files" if option["value"] else ""
            lines += [f"        '*--{option['option']}[{help_text}]{action}' \\"]
        files = WITH_PLACES.get(command["command"])
        rest = f"_deeptrace_places {files}" if files else "_files"
        first = f"kind:({' '.join(kinds_of(command))})" if kinds_of(command) else "file:_files"
        lines += [f"        '2:{first}' \\", f"        '*:place:{rest}' ;;"]
    lines += ["  esac", "}", "_deeptrace_places() {", "  local word file", "  local -i files=$1", "  local -a names", "  for word in ${words[3,CURRENT-1]}; do",
              "    if [[ -f $word ]]; then", "      file=${file:-$word}", "      (( --files > 0 )) && continue", "      names=(${(f)\"$(deeptrace --names $file 2> /dev/null)\"})",
              "      compadd -a names", "      return", "    fi", "  done", "  _files", "}", "_deeptrace \"$@\"", ""]
    return "\n".join(lines)


def fish(commands):
    def text(words):
        return words.replace("\\", "\\\\").replace("'", "\\'")

    lines = ["# Completion of deeptrace for fish."]
    names = " ".join(command["command"] for command in commands)
    for command in commands:
        lines.append(f"complete -c deeptrace -f -n 'not __fish_seen_subcommand_from {names}' -a {command['command']} "
                     f"-d '{text(command['answers'])}'")
        for option in options_of(command):
            takes = f" -r -f -a '{CHOICES[option['option']]}'" if option["option"] in CHOICES else " -r -F" if option["value"] else ""
            lines.append(f"complete -c deeptrace -n '__fish_seen_subcommand_from {command['command']}' -l {option['option']}"
                         f"{takes} -d '{text(option['help'])}'")
        if kinds_of(command):
            lines.append(f"complete -c deeptrace -f -n 'test (count (commandline -opc)) -eq 2; and __fish_seen_subcommand_from "
                         f"{command['command']}' -a '{' '.join(kinds_of(command))}'")
        if command["command"] in WITH_PLACES:
            lines.append(f"complete -c deeptrace -n '__fish_seen_subcommand_from {command['command']}' "
                         f"-a '(__deeptrace_names {WITH_PLACES[command['command']]})'")
    lines.append("""function __deeptrace_names
    set -l files
    for word in (commandline -opc)[3..-1]
        if test -f $word
            set -a files $word
            if test (count $files) -eq $argv[1]
                deeptrace --names $files[1] 2> /dev/null
                return
            end
        end
    end
end""")
    return "\n".join(lines) + "\n"


def main():
    tool, folder = os.path.abspath(sys.argv[1]), sys.argv[2]
    about = described(tool)
    commands = [described(tool, name) for name in about["commands"]]
    pages = {"man/man1/deeptrace.1": main_page(commands, about), "bash-completion/completions/deeptrace": bash(commands),
             "zsh/vendor-completions/_deeptrace": zsh(commands), "fish/vendor_completions.d/deeptrace.fish": fish(commands)}
    for command in commands:
        pages[f"man/man1/deeptrace-{command['command']}.1"] = command_page(command, about)
    for name, text in pages.items():
        path = os.path.join(folder, name)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "w", encoding="utf-8") as file:
            file.write(text)


if __name__ == "__main__":
    main()
