"""Where scripts with an emulator work: their options, the program, and a folder with records of its own."""
import argparse, os, tempfile


def begin(few, what):
    """Options, the program, and the folder, which is the current one from now on. `few` is the option for a choice."""
    options = argparse.ArgumentParser()
    options.add_argument(f"--{few}", dest="few", action="store_true", help="a choice that takes few minutes")
    options.add_argument("--only", default="", help=f"{what} with this text in their names")
    options.add_argument("folder", nargs="?")
    options = options.parse_args()
    here = os.path.dirname(os.path.dirname(os.path.abspath(__file__)))
    target = os.environ.get("CARGO_TARGET_DIR", os.path.join(here, "target"))
    program = os.path.abspath(os.environ.get("PINEWRIT", os.path.join(target, "release/pinewrit")))
    work = os.path.abspath(options.folder) if options.folder else tempfile.mkdtemp()
    os.makedirs(work, exist_ok=True)
    os.chdir(work)
    # Neither the user's ledger and configuration nor the user's keys.
    for name in ["state", "config", "cache", "data"]:
        os.environ[f"XDG_{name.upper()}_HOME"] = os.path.join(work, name)
    os.environ.pop("SSH_AUTH_SOCK", None)
    return options, program, work
