# Reads primary lists with the library that dnf itself reads them with, and
# prints a line of JSON for each folder that is named on the standard input.
import json, sys, tempfile
import hawkey

sack = hawkey.Sack(cachedir=tempfile.mkdtemp(), arch="x86_64", make_cache_dir=True)
for number, line in enumerate(sys.stdin):
    folder = line.strip()
    out = {"folder": folder, "packages": None}
    name = "r%d" % number
    repo = hawkey.Repo(name)
    repo.repomd_fn, repo.primary_fn = folder + "/repomd.xml", folder + "/primary.xml"
    try:
        sack.load_repo(repo, build_cache=False)
        out["packages"] = [{
            "name": p.name, "version": p.evr, "arch": p.arch, "path": p.location, "size": p.downloadsize,
            "digest": p.chksum[1].hex() if p.chksum else "",
            "requires": sorted(str(r) for r in p.requires), "provides": sorted(str(r) for r in p.provides),
            "conflicts": sorted(str(r) for r in p.conflicts), "obsoletes": sorted(str(r) for r in p.obsoletes),
        } for p in hawkey.Query(sack).filter(reponame=name)]
    except Exception as e:
        out["error"] = str(e)
    print(json.dumps(out), flush=True)
