"""Fails with a chain of errors, and prints what its traceback has to say."""
import sys
import traceback


class GateStuck(Exception):
    pass


def level(gate):
    levels = {"Kelp Quay": 3}
    return levels[gate]


class Sluice:
    def open(self, gate):
        try:
            return level(gate)
        except KeyError as e:
            raise GateStuck(f"gate {gate} does not answer") from e


def settle():
    raise ExceptionGroup("two gates failed", [ValueError("too low"), GateStuck("jammed")])


def main():
    try:
        Sluice().open("Osprey Wall")
    except GateStuck:
        if "group" in sys.argv:
            settle()
        raise RuntimeError("the lock is closed")


def tell(kind, e, tb):
    while tb.tb_next:
        tb = tb.tb_next
    frames = traceback.extract_stack(tb.tb_frame)
    frames[-1] = traceback.extract_tb(e.__traceback__)[-1]
    for f, inner in zip(traceback.extract_tb(e.__traceback__)[::-1], [None] * 99):
        print("frame", f.name, f.filename, f.lineno, sep="\t")
    while e is not None:
        name = type(e).__name__ if type(e).__module__ == "builtins" else type(e).__module__ + "." + type(e).__name__
        print("cause", name, e, sep="\t")
        for x in getattr(e, "exceptions", []):
            name = type(x).__name__ if type(x).__module__ == "builtins" else type(x).__module__ + "." + type(x).__name__
            print("cause", name, x, sep="\t")
        e = e.__cause__ or e.__context__
    sys.stdout.flush()


def hook(kind, e, tb):
    tell(kind, e, tb)
    sys.__excepthook__(kind, e, tb)


sys.excepthook = hook
main()
