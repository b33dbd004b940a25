"""A process in namespaces of its own, that tries what it is told to and says what came of it.

The first line of its input says what it shall become; it asks for id maps where it needs them, and then answers line by line.
"""
import ctypes
import errno
import json
import os
import stat
import sys

libc = ctypes.CDLL(None, use_errno=True)
COUNT = [0]
CLONE = {"mount": 0x00020000, "user": 0x10000000}


def done(result):
    if result != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


def mount(source, target, kind, flags, data=None):
    encoded = [None if text is None else os.fsencode(text) for text in (source, target, kind)]
    done(libc.mount(*encoded, ctypes.c_ulong(flags), None if data is None else data.encode()))


def unshare(what):
    done(libc.unshare(CLONE[what]))


def say(word):
    sys.stdout.write(json.dumps(word) + "\n")
    sys.stdout.flush()


def hear():
    line = sys.stdin.readline()
    if not line:
        os._exit(0)
    return json.loads(line)


BIND, REC, RDONLY, REMOUNT, PRIVATE, MOVE = 4096, 16384, 1, 32, 1 << 18, 8192


def nested(text, proc):
    """A namespace in the namespace: only who is in the outer one may write its maps."""
    hear_it, say_it = os.pipe()
    outer = os.getpid()
    helper = os.fork()
    if helper == 0:
        os.read(hear_it, 1)
        for name in ("uid_map", "gid_map"):
            file = os.open("%d/%s" % (outer, name), os.O_WRONLY, dir_fd=proc)
            os.write(file, text.encode())
            os.close(file)
        os._exit(0)
    unshare("user")
    os.write(say_it, b"x")
    if os.waitpid(helper, 0)[1] != 0:
        raise OSError("the maps could not be written")


def become(plan):
    proc = os.open("/proc", os.O_PATH | os.O_DIRECTORY)
    if plan["mounts"] is not None:
        unshare("mount")
        mount(None, "/", None, REC | PRIVATE)
        for step in plan["mounts"]:
            do, at = step["do"], step["at"]
            if do == "tmpfs":
                mount("tmpfs", at, "tmpfs", 0, "mode=%o" % step["mode"])
            elif do in ("bind", "rbind"):
                mount(step["from"], at, None, BIND | (REC if do == "rbind" else 0))
            elif do == "move":
                mount(step["from"], at, None, MOVE)
            elif do == "readonly":
                mount(None, at, None, BIND | REMOUNT | RDONLY)
    if plan["pivot"]:
        mount(plan["root"], plan["root"], None, BIND | REC)
        os.chdir(plan["root"])
        done(libc.syscall(155, b".", b"."))
        done(libc.umount2(b".", 2))
        os.chdir("/")
    if plan["spaces"] > 0:
        unshare("user")
        say("map me")
        hear()
    if plan["spaces"] > 1:
        nested(plan["inner"], proc)
    # Whose root is not that of their mounts can't make a namespace of users.
    if plan["root"] is not None and not plan["pivot"]:
        os.chroot(plan["root"])
        os.chdir("/")
    if plan["groups"] is not None:
        os.setgroups(plan["groups"])
    os.setresgid(plan["gid"], plan["gid"], plan["gid"])
    os.setresuid(plan["uid"], plan["uid"], plan["uid"])
    if plan["caps"] is not None:
        header = (ctypes.c_uint32 * 2)(0x20080522, 0)
        low, high = plan["caps"] & 0xFFFFFFFF, plan["caps"] >> 32
        data = (ctypes.c_uint32 * 6)(low, low, 0, high, high, 0)
        done(libc.capset(header, data))
    # Who changes their ids may not be looked at by others of the same ids, but by root.
    os.umask(plan["umask"])


def attempt(need, path, to=None):
    raw = path.encode("utf-8", "surrogateescape")
    if need in ("link", "rename"):
        # Done and taken back.
        other = to.encode("utf-8", "surrogateescape")
        if need == "link":
            os.link(raw, other, follow_symlinks=False)
            os.unlink(other)
        else:
            os.rename(raw, other)
            os.rename(other, raw)
        return 0
    if need == "remove":
        # Moved away within its folder, and back: what unlinking needs, and nothing lost.
        other = os.path.join(os.path.dirname(raw.rstrip(b"/")), b".moved")
        os.rename(raw, other)
        os.rename(other, raw)
        return 0
    if need in ("add", "enter"):
        # A symlink in the middle of a path is followed where one at its end may not be.
        folder = True
    else:
        meta = os.stat(raw)
        folder = stat.S_ISDIR(meta.st_mode)
    if need == "folder" and not folder:
        raise OSError(errno.ENOTDIR, "no folder")
    if need == "ends":
        return [os.major(meta.st_dev), os.minor(meta.st_dev), meta.st_ino]
    if need == "read":
        if folder:
            os.listdir(raw)
            os.stat(raw + b"/.")
        else:
            os.close(os.open(raw, os.O_RDONLY | os.O_NONBLOCK))
    elif need == "enter":
        os.stat(raw + b"/.")
    elif need == "write" and not folder:
        try:
            os.close(os.open(raw, os.O_WRONLY | os.O_NONBLOCK))
        except OSError as error:
            # A pipe that nobody reads: that comes after the rights.
            if error.errno != errno.ENXIO:
                raise
    elif need in ("add", "write"):
        COUNT[0] += 1
        new = raw + b"/.tried-%d-%d" % (os.getpid(), COUNT[0])
        os.close(os.open(new, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600))
    return 0


def main():
    become(hear())
    say(os.getpid())
    while True:
        try:
            say([attempt(*hear()), None])
        except OSError as error:
            say([None, errno.errorcode[error.errno]])


main()
