// What the words mean that are ours, or are used in one sense here; shown where they stand.
export const terms = {
  standing:
    'Whose source it is: official (of the distribution), vendor, community or house (built here). ' +
    'A source of a lower standing that overtakes an official one is told.',
  root:
    'The file that the upstream signs, from which all else of the source is reached by digests. It is ' +
    'accepted when a key that is vouched for this source signed it and it is not older than the one before.',
  priority:
    '1 is asked first, 99 last. A package is taken from the best priority that has it; among equals the ' +
    'newest version wins.',
  score:
    'Of 100, in comparison with the best of each part: up to 40 for how new its root is, 30 for its first ' +
    'byte, 30 for its rate. Below it stand the three.',
  vouch:
    'The recorded decision that a key may sign one source, with evidence, by whom and when. Until a key is ' +
    'vouched for, nothing of the source is accepted.',
  bar: 'The recorded decision that a key may sign nothing any more, anywhere.',
  copy:
    'Faithful: every byte as upstream has it, with its signatures. Tailored: a choice with all that it ' +
    'needs, its indexes written anew and signed with the site key.',
  edition: 'One sealed result of building a mirror, which never changes: barrage/14.',
  seal: "The site key's signature over the list of an edition's files. What is not sealed is not served.",
  lane: 'A name that machines follow. It shows one edition, and can be moved on or back.',
  group: 'Machines of one kind: a family, a release, architectures. They follow one lane.',
  pin: 'A version that the machines of a group stay on.',
  proof:
    'Whether all that is wanted can be installed by the machines of a group, from what they see alone; ' +
    'where it cannot, why not. What was not asked is said beside it.',
  footing: 'What machines have installed already when it is proved what they can install.',
  with:
    'What comes along with a wanted package: what it needs (required), also what it recommends, or also ' +
    'what it suggests.',
  security:
    'Updates with a security advisory, or from a source of security fixes. Unknown: their sources publish neither.',
  behind: 'What comes first of its name on the lane is newer; its client would take it.',
  held: 'A pin of the group keeps what is newer from being taken.',
  ahead: 'It is newer than what comes first on the lane; nothing takes it back by itself.',
  stranded: 'No source that the machine sees has a package of its name: it gets no updates of it.',
  offered:
    'The version that the machine would take of this name from what its lane shows, by priority, pin and ' +
    'architecture.',
  upstream:
    'One server that carries the source; several are asked in order, and one that is down is passed over.',
  alone: 'What nothing else holds: retiring the edition and a sweep of the pool would free it.',
  findings: 'What checks found: errors keep something from being used, warnings hurt sooner or later.',
} as const
export type Term = keyof typeof terms
