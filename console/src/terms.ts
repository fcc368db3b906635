// The meaning of words that are ours, or that have one meaning here. A page shows it beside the word.
export const terms = {
  standing:
    'Who is responsible for the source: official (the distribution), vendor, community or house (built here). ' +
    'Stockade reports when a source of lower standing replaces packages of an official one.',
  root:
    'The file that the upstream signs: InRelease, repomd.xml or the database. All other files of the source are ' +
    'reached from it by checksum. Stockade accepts it when a key that is vouched for this source signed it ' +
    'and it is not older than the last one.',
  priority:
    '1 is asked first, 99 last. A package is taken from the source with the best priority that has it. Among ' +
    'equal priorities the newest version wins.',
  score:
    'Points out of 100, relative to the best upstream: up to 40 for current release metadata, 30 for the time ' +
    'to the first byte, 30 for the transfer rate.',
  vouch:
    'The recorded decision that a key may sign one source, with evidence, person and time. Stockade accepts ' +
    'nothing from a source before one of its keys is vouched for.',
  bar: 'The recorded decision that a key may not sign anything any more, for any source.',
  copy:
    'Faithful: every byte as upstream has it, with the signatures of upstream. Tailored: selected packages with ' +
    'their dependencies, with new indexes that the site key signs.',
  edition: 'One sealed result of building a mirror, such as barrage/14. It never changes.',
  seal: "The site key's signature over the list of files of an edition. Stockade serves only sealed editions.",
  lane: 'A name that machines follow, such as steady. It shows one edition and can be moved forward or back.',
  group: 'Machines of one kind: one family, one release, the same architectures. They follow one lane.',
  pin: 'A version that the machines of a group keep.',
  proof:
    'The result of checking whether the machines of a group can install all wanted packages from what they see, ' +
    'with the reasons where they cannot. What was not checked is listed beside it.',
  footing: 'The baseline: packages that count as installed already when a proof is made.',
  with:
    'Which dependencies come along with a wanted package: the required ones, also the recommended ones, or ' +
    'also the suggested ones.',
  security:
    'Updates with a security advisory, or from a source of security fixes. Unknown: the sources publish neither.',
  behind: 'An update is available: the candidate on the lane is newer.',
  held: 'A pin of the group keeps a newer version from being installed.',
  ahead:
    'The installed version is newer than the candidate on the lane. Clients do not downgrade by themselves.',
  stranded: 'Not in any source that the machine uses, so the package gets no updates.',
  offered:
    'The candidate: the version that the machine would install from its lane now, by priority, pins and ' +
    'architecture.',
  upstream:
    'One server that carries the source. Several are asked in order, and one that does not answer is skipped.',
  alone: 'Disk space that only this edition uses. Retiring the edition and sweeping the pool frees it.',
  findings:
    'Results of checks. An error stops what it is about, a warning causes trouble sooner or later, a note is ' +
    'for your information.',
} as const
export type Term = keyof typeof terms
