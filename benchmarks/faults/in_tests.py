"""Faults inside of a test: what it does to its own process, and to what it starts."""

from __future__ import annotations

from benchmarks.faults.scene import Victim

_GONE = ("crashed",)
_ANY = ("passed", "failed", "errored")
_HANGS = ("timed out",)

_BODIES: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "ends its process": (
        (
            "os._exit(0)",
            "os._exit(3)",
            "print('last words', flush=True); os._exit(1)",
            "os.fork() or os._exit(0); os._exit(2)",
        ),
        _GONE,
    ),
    "is killed": (
        (
            "os.kill(os.getpid(), signal.SIGKILL)",
            "os.killpg(0, signal.SIGKILL)",
            "os.abort()",
            "os.kill(os.getpid(), signal.SIGTERM)",
            "ctypes.string_at(0)",
            "os.kill(os.getpid(), signal.SIGHUP); time.sleep(1)",
        ),
        _GONE,
    ),
    "raises what ends programs": (
        (
            "sys.exit(0)",
            "raise KeyboardInterrupt",
            "raise SystemExit('over')",
            "raise GeneratorExit",
            "raise BaseException('all')",
        ),
        ("errored",),
    ),
    "recurses": (("f = lambda: f()\\nf()".replace("\\n", "\n"),), ("errored",)),
    "hangs": (
        (
            "time.sleep(600)",
            "threading.Event().wait()",
            "signal.signal(signal.SIGABRT, signal.SIG_IGN); time.sleep(600)",
            "signal.pthread_sigmask(signal.SIG_BLOCK, range(1, 32)); time.sleep(600)",
            "exec('while True: pass')",
            "os.kill(os.getpid(), signal.SIGSTOP)",
        ),
        _HANGS,
    ),
    "leaves processes": (
        (
            "subprocess.Popen(['sleep', '600'])",
            "subprocess.Popen(['sleep', '600'], start_new_session=True)",
            "subprocess.Popen(['sleep', '600'], env={}, start_new_session=True)",
            "subprocess.Popen('sleep 600 & sleep 600 & exit 0', shell=True)",
            "os.fork() or time.sleep(600)",
            "os.fork() or (os.setsid(), os.fork() or time.sleep(600))",
            "subprocess.Popen(['sh', '-c', 'trap \"\" TERM HUP INT; sleep 600'])",
        ),
        ("passed",),
    ),
    "forks and comes back": (("os.fork()", "os.fork() or time.sleep(0.05)"), ("passed",)),
    "leaves threads": (
        (
            "threading.Thread(target=time.sleep, args=(600,)).start()",
            "threading.Thread(target=time.sleep, args=(600,), daemon=True).start()",
            "threading.Thread(target=lambda: 1 / 0).start()",
        ),
        ("passed",),
    ),
    "closes descriptors": (
        (
            "os.closerange(0, 4096)",
            "os.closerange(3, 4096)",
            "os.close(1); os.close(2)",
            "os.close(1); os.close(2); open(os.devnull); open(os.devnull)",
            "[os.dup2(os.open(os.devnull, 0), n) for n in range(195, 230)]",
            "[os.dup2(os.open(os.devnull, 1), n) for n in (1, 2)]",
            "[os.dup(0) for _ in range(300)]",
        ),
        ("passed",),
    ),
    "replaces streams": (
        (
            "sys.stdout = sys.stderr = None",
            "sys.stdout.close()",
            "sys.stdout = open(os.devnull, 'w')",
            "sys.__stdout__ = None; sys.stderr = None",
            "sys.stdin = None",
        ),
        _ANY,
    ),
    "floods": (
        (
            "exec('while True: print(\"tide \" * 10000)')",
            "exec('while True: os.write(2, b\"x\" * 65536)')",
        ),
        ("errored",),
    ),
    "prints much": (
        (
            "print('x' * 3_000_000)",
            "[print('line', n) for n in range(40_000)]",
            "os.write(1, bytes(range(256)) * 2000)",
            "sys.stdout.write('no end' * 100_000)",
        ),
        ("passed",),
    ),
    "limits its process": (
        (
            "resource.setrlimit(resource.RLIMIT_NOFILE, (3, 4096))",
            "resource.setrlimit(resource.RLIMIT_NOFILE, (8, 8))",
            "resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))",
            "resource.setrlimit(resource.RLIMIT_NPROC, (1, 1))",
            "resource.setrlimit(resource.RLIMIT_CPU, (9, 9))",
        ),
        _ANY,
    ),
    "takes all memory": (
        ("resource.setrlimit(resource.RLIMIT_AS, (400 << 20, 400 << 20)); x = bytearray(1 << 30)",),
        ("errored",),
    ),
    "moves its process": (
        (
            "os.chdir('/')",
            "d = tempfile.mkdtemp(); os.chdir(d); os.rmdir(d)",
            "os.umask(0o777)",
            "os.environ.clear()",
            "os.environ['PATH'] = ''",
            "os.environ['PYTHONPATH'] = '/nowhere'",
            "os.environ['TMPDIR'] = '/nowhere'; tempfile.tempdir = None",
            "os.setsid if 0 else os.nice(5)",
            "import locale; locale.setlocale(locale.LC_ALL, 'C')",
        ),
        ("passed",),
    ),
    "patches modules": (
        (
            "time.time = time.monotonic = time.perf_counter = lambda: 0.0",
            "time.time = lambda: -1e12",
            "time.sleep = None",
            "json.dumps = json.loads = None",
            "socket.socket = None",
            "os.getpid = lambda: 1",
            "os.fstat = None",
            "os.write = None",
            "import builtins; builtins.open = None",
            "import builtins; builtins.print = None",
            "import builtins; builtins.isinstance = lambda *a: False",
            "unittest.TestCase.run = None",
            "warnings.simplefilter('error')",
            "gc.disable(); gc.set_threshold(1)",
            "threading.RLock = threading.Lock = None",
            "sys.setrecursionlimit(60)",
            "sys.settrace(lambda *a: 1 / 0)",
            "sys.excepthook = None",
            "sys.setswitchinterval(1e-6)",
            "datetime = None; import datetime; datetime.datetime = None",
        ),
        (*_ANY, *_GONE),
    ),
    "empties tables": (
        (
            "sys.path.clear()",
            "sys.modules.clear()",
            "sys.argv.clear()",
            "sys.meta_path.clear()",
            "[sys.modules.pop(n) for n in list(sys.modules) if n not in ('sys', 'builtins')]",
        ),
        _ANY,
    ),
    "handles signals": (
        (
            "[signal.signal(s, signal.SIG_IGN) for s in (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)]",
            "signal.signal(signal.SIGALRM, lambda *a: 1 / 0); signal.alarm(1)",
            "signal.pthread_sigmask(signal.SIG_BLOCK, [signal.SIGTERM, signal.SIGINT])",
            "signal.setitimer(signal.ITIMER_REAL, 0.01, 0.01); signal.signal(signal.SIGALRM, "
            "signal.SIG_IGN)",
        ),
        _ANY,
    ),
    "speaks on the channel": (
        (
            "os.write(200, b'tide\\n')",
            "os.write(200, b'{}\\n')",
            "os.write(200, b'\\xff\\x00\\n')",
            'os.write(200, b\'{"type": "finished"}\\n\')',
            "os.write(200, b'[1]\\n' * 3)",
        ),
        ("errored",),
    ),
    "speaks for another": (
        (
            'os.write(200, b\'{"type":"finished","address":"x.py#y","outcome":"passed",'
            '"seconds":0}\\n\')',
            'os.write(200, b\'{"type":"ran","file":"x.py"}\\n\')',
        ),
        (*_ANY, *_GONE),
    ),
    "breaks off a message": (('os.write(200, b\'{"type": "fin\')',), (*_ANY, *_GONE)),
    "ends its own parent's children": (
        ("os.kill(0, signal.SIGTERM)", "os.kill(0, signal.SIGINT)"),
        (*_ANY, *_GONE),
    ),
    "tells a secret": (
        (
            "import base64; print(os.environ['TOKEN'], base64.b64encode(os.environ['TOKEN'].encode()))",
            "self.fail(os.environ['TOKEN'])",
            "self.assertEqual('x' * 400 + os.environ['TOKEN'], 'y')",
            "from urllib.parse import quote; print(quote(os.environ['TOKEN']))",
            "print(json.dumps(os.environ['TOKEN']), repr(os.environ['TOKEN']))",
            "[sys.stdout.write(c) or sys.stdout.flush() for c in os.environ['TOKEN']]",
            "print('.' * 65530 + os.environ['TOKEN'] * 3)",
            "os.write(1, os.environ['TOKEN'].encode())",
            "raise ValueError({'token': os.environ['TOKEN'].encode().hex()})",
        ),
        _ANY,
    ),
    "has a hostile message": (
        (
            "self.fail('\\x1b[31mred\\x07\\x00\\ud800')",
            "raise ValueError('<![CDATA[x]]>' * 9)",
            "print('\\x1b]0;title\\x07 \\u202e \\ufffe'); self.fail('\\u2028')",
            "raise type('E' * 300, (Exception,), {})('x')",
            "self.fail('ok 1\\nnot ok 2\\n1..0')",
            "raise type('E', (Exception,), {'__str__': lambda s: 1 / 0})()",
            "raise type('E', (Exception,), {'__repr__': None, '__str__': None})()",
        ),
        ("failed", "errored"),
    ),
}


def victims() -> dict[str, list[Victim]]:
    """Every fault, by its kind."""
    return {
        name: [Victim(name, body, outcomes) for body in bodies]
        for name, (bodies, outcomes) in _BODIES.items()
    }
