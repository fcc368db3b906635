# Reads sync databases with the library that pacman itself reads them with, and
# prints a line of JSON for each name that stands on the standard input; the
# databases lie in sync/ below the folder that is the argument.
import ctypes, ctypes.util, json, os, sys

lib = ctypes.CDLL(next(n for n in (ctypes.util.find_library("alpm"), "libalpm.so.13", "libalpm.so.15") if n))
P, S = ctypes.c_void_p, ctypes.c_char_p

class Node(ctypes.Structure):
    pass
Node._fields_ = [("data", P), ("prev", P), ("next", ctypes.POINTER(Node))]

def fn(name, result, *args):
    f = getattr(lib, name)
    f.restype, f.argtypes = result, args
    return f

initialize = fn("alpm_initialize", P, S, S, ctypes.POINTER(ctypes.c_int))
register = fn("alpm_register_syncdb", P, P, S, ctypes.c_int)
cache = fn("alpm_db_get_pkgcache", ctypes.POINTER(Node), P)
compute = fn("alpm_dep_compute_string", S, P)
text = {k: fn("alpm_pkg_get_" + k, S, P) for k in ("name", "version", "arch", "filename", "sha256sum")}
size = fn("alpm_pkg_get_size", ctypes.c_int64, P)
lists = {k: fn("alpm_pkg_get_" + k, ctypes.POINTER(Node), P) for k in ("depends", "provides", "conflicts")}
errno = fn("alpm_errno", ctypes.c_int, P)

def each(node):
    while node:
        yield node.contents.data
        node = node.contents.next

code = ctypes.c_int()
root = sys.argv[1]
handle = initialize(root.encode(), root.encode(), ctypes.byref(code))
for line in sys.stdin:
    name = line.strip()
    out = {"folder": name, "packages": None}
    db = register(handle, name.encode(), 0)
    found = cache(db) if db else None
    if found:
        out["packages"] = []
        for p in each(found):
            entry = {k: (f(p) or b"").decode("utf-8", "replace") for k, f in text.items()}
            entry = {"name": entry["name"], "version": entry["version"], "arch": entry["arch"], "path": entry["filename"], "digest": entry["sha256sum"], "size": size(p)}
            for k, f in lists.items():
                entry[{"depends": "requires"}.get(k, k)] = sorted(compute(d).decode("utf-8", "replace") for d in each(f(p)))
            out["packages"].append(entry)
    print(json.dumps(out), flush=True)
