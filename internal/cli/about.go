package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/docs"
	"ladle/internal/core/fault"
	"ladle/internal/term"
)

func schemaCommand() *command {
	return &command{
		name: "json-schema", phase: aboutLadle,
		does: "print the JSON Schema of ladle files, with which editors complete and check them",
		about: "An editor that knows YAML uses it when the ladle file begins with the line\n\n# " +
			"yaml-language-server: $schema=ladle-file.schema.json",
		examples: []example{
			{"Beside your ladle files", "ladle json-schema > ladle-file.schema.json"},
			{"One key of it", "ladle json-schema | grep -A 3 set_aside_limit"},
		},
		run: func(context.Context, *cli.Command) error {
			_, err := fmt.Fprint(term.Stdout, docs.Schema)
			return err
		},
	}
}

func manualCommand() *command {
	return &command{
		name: "manual", phase: aboutLadle,
		does: "print the manual page, for man",
		examples: []example{
			{"Read it", "ladle manual > ladle.1 && man ./ladle.1"},
			{"Install it for everybody", "ladle manual > /usr/local/share/man/man1/ladle.1"},
		},
		run: func(context.Context, *cli.Command) error {
			_, err := fmt.Fprint(term.Stdout, manual(commands()))
			return err
		},
	}
}

func completionCommand() *command {
	return &command{
		name: "completion", phase: aboutLadle,
		does:  "print a script with which bash completes commands, options and their values",
		takes: operands{"[bash]", "the name of a shell", 0, 1},
		about: "It needs no other package.",
		examples: []example{
			{"In this shell", "source <(ladle completion)"},
			{"In every one", `echo 'source <(ladle completion)' >> ~/.bashrc`},
		},
		run: func(_ context.Context, c *cli.Command) error {
			if shell := c.Args().First(); shell != "" && shell != "bash" {
				return fault.New(fault.Wrong, fmt.Sprintf("there is no completion for %q", shell),
					"it is for bash only")
			}
			_, err := fmt.Fprint(term.Stdout, completion(commands()))
			return err
		},
	}
}

// completion is a script for bash, version 3.2 and later, that completes the command line of ladle. Where nothing else
// fits, files are completed.
func completion(all []*command) string {
	var b strings.Builder
	var names []string
	for _, c := range all {
		names = append(names, c.name)
	}
	b.WriteString("# Completion of ladle for bash.\n_ladle() {\n    local word=\"${COMP_WORDS[COMP_CWORD]}\" " +
		"before=\"${COMP_WORDS[COMP_CWORD-1]}\" words=\"\"\n    COMPREPLY=()\n    if [ \"$COMP_CWORD\" -eq 1 ]; " +
		"then\n        words=\"" + strings.Join(names, " ") + " help --version --licences --help\"\n        " +
		"COMPREPLY=($(compgen -W \"$words\" -- \"$word\"))\n        return\n    fi\n    if [ \"${COMP_WORDS[1]}\" = " +
		"help ]; then\n        COMPREPLY=($(compgen -W " +
		"\"" + strings.Join(names, " ") + "\" -- \"$word\"))\n        return\n    fi\n    case \"${COMP_WORDS[1]} " +
		"$before\" in\n")
	for _, c := range all {
		for i := range c.options {
			switch o := &c.options[i]; {
			case o.choose != nil:
				fmt.Fprintf(&b, "        '%s --%s') words=\"%s\" ;;\n", c.name, o.name, strings.Join(o.choose, " "))
			case o.value != "": // of its own, most often a file
				fmt.Fprintf(&b, "        '%s --%s') return ;;\n", c.name, o.name)
			}
		}
	}
	b.WriteString("    esac\n    if [ -z \"$words\" ] && [[ \"$word\" == -* ]]; then\n        case " +
		"\"${COMP_WORDS[1]}\" in\n")
	for _, c := range all {
		var options []string
		for i := range c.options {
			options = append(options, "--"+c.options[i].name)
		}
		fmt.Fprintf(&b, "            %s) words=\"%s\" ;;\n", c.name, strings.Join(append(options, "--help"), " "))
	}
	b.WriteString("        esac\n    fi\n    [ -n \"$words\" ] && COMPREPLY=($(compgen -W \"$words\" -- " +
		"\"$word\"))\n}\ncomplete -o default -F _ladle ladle\n")
	return b.String()
}
