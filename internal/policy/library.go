package policy

import "greenlever.example/greenlever/internal/app"

// Library are policies to begin with. None of them counts before a project saves it; each names things of its own
// example (an environment, a zone, a team), which are to be put right.
func Library() []app.Policy {
	return []app.Policy{
		{Key: "names", Title: "Names of flags", Nouns: []string{"definition"}, Outcome: app.Refuse,
			Reason: "A name that is searched for should be found.",
			When:   `!flag.key.matches('^[a-z0-9]+(-[a-z0-9]+){1,5}$')`,
			Mend:   "take two to six words in small letters, with hyphens between them"},
		{Key: "owned-and-dated", Title: "Somebody answers for it, and it goes", Nouns: []string{"definition"},
			Outcome: app.Refuse, Reason: "A flag that nobody answers for stays for ever.",
			When: `size(flag.owners) == 0 || (flag.goneBy == 'stays' && !('lasting' in flag.tags))`,
			Mend: "name an owner, and say by when the flag is gone, or give it the tag lasting"},
		{Key: "staging-first", Title: "On in staging before production", Nouns: []string{"flag"}, Outcome: app.Refuse,
			Reason: "What nobody has seen work is seen to fail by customers.", Environments: []string{"production"},
			When: `difference.step > 0.0 && ('staging' in elsewhere && elsewhere['staging'].lever == 'off')`,
			Mend: "turn it on in staging first"},
		{Key: "small-steps", Title: "No step over 40 percentage points", Nouns: []string{"flag", "release"},
			Outcome: app.Refuse, Reason: "What goes wrong goes wrong for few.", Environments: []string{"production"},
			When: `difference.step > 40.0`,
			Mend: "take smaller steps, or begin a release"},
		{Key: "another-team-signs", Title: "Another team signs for billing", Nouns: []string{"flag", "release"},
			Outcome: app.Refuse, Reason: "Money is looked at by those who count it.", Tags: []string{"billing"},
			When: `!signed.exists(s, 'accounts' in s.teams)`,
			Mend: "propose it, and have one of team accounts sign"},
		{Key: "no-friday-afternoons", Title: "No widening on Friday after noon", Nouns: []string{"flag", "release"},
			Outcome: app.Refuse, Reason: "Nobody wants to look for the cause on Saturday.",
			Environments: []string{"production"},
			When: `difference.step > 0.0 && now.getDayOfWeek('Europe/Oslo') == 5 && ` +
				`now.getHours('Europe/Oslo') >= 12`,
			Mend: "wait until Monday"},
		{Key: "say-why", Title: "Changes say why", Nouns: []string{"flag", "segment", "release"}, Outcome: app.Warn,
			Reason: "In a year the reason is all that is left.",
			When:   `size(change.reason.trim()) < 10`,
			Mend:   "say why in one sentence"},
		{Key: "one-hand", Title: "No edit beside a release", Nouns: []string{"flag"}, Outcome: app.Warn,
			Reason: "Two hands at one lever are one too many.",
			When:   `flag.releasing`,
			Mend:   "wait until the release is through, or edit the release"},
		{Key: "past-its-date", Title: "A flag that should be gone widens no more", Nouns: []string{"flag", "release"},
			Outcome: app.Refuse, Reason: "What is given to more people is harder to take out.",
			When: `difference.step > 0.0 && flag.goneBy != 'stays' && flag.goneBy != '' && ` +
				`timestamp(flag.goneBy + 'T00:00:00Z') < now`,
			Mend: "take the flag out of the code, or give it a later date"},
		{Key: "described", Title: "What browsers see is described", Nouns: []string{"definition"}, Outcome: app.Warn,
			Reason: "Anybody can read it in a browser, so anybody may ask what it is.",
			When:   `flag.visible && size(flag.description.trim()) == 0`,
			Mend:   "describe the flag in a sentence"},
	}
}
