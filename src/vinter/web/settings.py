"""Settings. Everything that differs between machines comes from the environment (see README)."""

import contextlib
import os
import secrets
from datetime import timedelta
from ipaddress import ip_network
from pathlib import Path

BASE = Path(__file__).resolve().parent
CHECKOUT = BASE.parents[2]  # folder of the source; an installed copy has none


def _home() -> Path:
    """Where database and pictures live unless somebody says otherwise: beside the source, or with a person's
    data."""
    if (CHECKOUT / "pyproject.toml").is_file():
        return CHECKOUT / "var"
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "vinter"


HOME = Path(os.environ.get("VINTER_HOME") or _home())
HOME.mkdir(parents=True, exist_ok=True)
MEDIA_ROOT = HOME / "media"
DEMO = os.environ.get("VINTER_DEMO") == "1"
DEBUG = False
ALLOWED_HOSTS = os.environ.get("VINTER_HOSTS", "localhost,127.0.0.1,[::1]").split(",")
CSRF_TRUSTED_ORIGINS = [o for o in os.environ.get("VINTER_ORIGINS", "").split(",") if o]


ADDRESS = os.environ.get("VINTER_ADDRESS") or (CSRF_TRUSTED_ORIGINS or ["http://localhost:8765"])[0]


def _secret() -> str:
    """The signing key, made once and kept readable by its owner only; whole or not there, whoever comes
    first."""
    path = HOME / "secret.key"
    if not path.exists():
        draft = HOME / f"secret.{os.getpid()}"
        with os.fdopen(os.open(draft, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "w") as file:
            file.write(secrets.token_urlsafe(50))
        with contextlib.suppress(FileExistsError):
            os.link(draft, path)
        draft.unlink()
    return path.read_text()


SECRET_KEY = os.environ.get("VINTER_SECRET") or _secret()
INSTALLED_APPS = [
    "django.contrib.auth",
    "django.contrib.contenttypes",
    "django.contrib.sessions",
    "django.contrib.staticfiles",
    "vinter.web",
    "django_htmx",
    "axes",
    "vinter.web.accounts",
    "vinter.web.demo",
    "vinter.web.home",
    "vinter.web.jobs",
    "vinter.web.bin",
    "vinter.web.gear",
    "vinter.web.sites",
    "vinter.web.satellites",
    "vinter.web.nights",
    "vinter.web.forecast",
    "vinter.web.skyline",
    "vinter.web.shots",
    "vinter.web.field",
    "vinter.web.rehearse",
    "vinter.web.takes",
    "vinter.web.stacks",
    "vinter.web.finish",
    "vinter.web.ledger",
    "vinter.web.space",
    "vinter.web.archive",
]
MIDDLEWARE = [
    "vinter.web.logs.RequestNumbers",
    "vinter.web.security.TrustedProxies",
    "django.middleware.security.SecurityMiddleware",
    "whitenoise.middleware.WhiteNoiseMiddleware",
    "vinter.web.security.SecurityHeaders",
    "django.contrib.sessions.middleware.SessionMiddleware",
    "django.middleware.common.CommonMiddleware",
    "django.middleware.csrf.CsrfViewMiddleware",
    "django.contrib.auth.middleware.AuthenticationMiddleware",
    "django.contrib.auth.middleware.LoginRequiredMiddleware",
    "vinter.web.accounts.conventions.OwnConventions",
    "django_htmx.middleware.HtmxMiddleware",
    "django.middleware.clickjacking.XFrameOptionsMiddleware",
    "vinter.web.security.PlainErrors",
    "vinter.web.compute.WaitingPages",
    "axes.middleware.AxesMiddleware",
]
LOGGING = {
    "version": 1,
    "disable_existing_loggers": False,
    "formatters": {"line": {"()": "vinter.web.logs.OneLine"}},
    "handlers": {"console": {"class": "logging.StreamHandler", "formatter": "line"}},
    "loggers": {
        name: {"handlers": ["console"], "level": "WARNING", "propagate": True}
        for name in ("vinter", "django")
    },
}
ROOT_URLCONF = "vinter.web.urls"
WSGI_APPLICATION = "vinter.web.wsgi.application"
TEMPLATES = [
    {
        "BACKEND": "django.template.backends.django.DjangoTemplates",
        "DIRS": [BASE / "templates"],
        "APP_DIRS": True,
        "OPTIONS": {
            "context_processors": [
                "django.template.context_processors.request",
                "django.contrib.auth.context_processors.auth",
                "vinter.web.notices.notices",
            ],
            "builtins": ["django.templatetags.static", "vinter.web.templatetags.figures"],
        },
    }
]
DATABASES = {
    "default": {
        "ENGINE": "django.db.backends.sqlite3",
        "NAME": os.environ.get("VINTER_DB", HOME / "vinter.sqlite3"),
        "OPTIONS": {
            "timeout": 20,
            "transaction_mode": "IMMEDIATE",
            "init_command": "PRAGMA journal_mode=WAL; PRAGMA synchronous=NORMAL;",
        },
        "TEST": {"NAME": HOME / "test.sqlite3"},
    }
}
DEFAULT_AUTO_FIELD = "django.db.models.BigAutoField"
LOGIN_URL = "sign-in"
LOGIN_REDIRECT_URL = "home"
LOGOUT_REDIRECT_URL = "sign-in"
AUTHENTICATION_BACKENDS = [
    "axes.backends.AxesStandaloneBackend",
    "django.contrib.auth.backends.ModelBackend",
]
AUTH_PASSWORD_VALIDATORS = [
    {"NAME": f"django.contrib.auth.password_validation.{name}"}
    for name in (
        "UserAttributeSimilarityValidator",
        "MinimumLengthValidator",
        "CommonPasswordValidator",
        "NumericPasswordValidator",
    )
]
SIGN_UP = os.environ.get("VINTER_SIGN_UP", "closed")  # closed: by invitation; open: for everybody
AXES_FAILURE_LIMIT = 6  # wrong passwords of one name from one address before sign-in is locked
AXES_COOLOFF_TIME = timedelta(minutes=15)
AXES_LOCKOUT_PARAMETERS = [["username", "ip_address"]]
AXES_RESET_ON_SUCCESS = True
AXES_LOCKOUT_TEMPLATE = "accounts/locked.html"
AXES_DISABLE_ACCESS_LOG = True
AXES_VERBOSE = False
STATIC_URL = "/static/"
STATICFILES_DIRS = [BASE / "static"]
STATICFILES_FINDERS = ["django.contrib.staticfiles.finders.FileSystemFinder"]  # only files of this project
STATIC_ROOT = HOME / "static"  # filled by the server and by the tests: names carry a hash of the content
STORAGES = {
    "default": {"BACKEND": "django.core.files.storage.FileSystemStorage"},
    "staticfiles": {"BACKEND": "vinter.web.assets.HashedAssets"},
}
WHITENOISE_MAX_AGE = 60  # s, of the few names without a hash
TIME_ZONE = "UTC"
USE_TZ = True
LANGUAGE_CODE = "en"
SESSION_COOKIE_HTTPONLY = True
SESSION_COOKIE_SAMESITE = "Lax"
CSRF_COOKIE_SAMESITE = "Lax"
HTTPS = os.environ.get("VINTER_HTTPS") == "1"  # true where people come over HTTPS, through a proxy
SESSION_COOKIE_SECURE = CSRF_COOKIE_SECURE = HTTPS
PROXIES = [
    ip_network(text.strip())
    for text in os.environ.get("VINTER_PROXIES", "127.0.0.1,::1").split(",")
    if text.strip()
]  # whose word is taken for where a request came from
SECURE_CONTENT_TYPE_NOSNIFF = True
SECURE_REFERRER_POLICY = "same-origin"
X_FRAME_OPTIONS = "DENY"
FILE_UPLOAD_TEMP_DIR = HOME / "incoming"
FILE_UPLOAD_TEMP_DIR.mkdir(exist_ok=True)
DATA_UPLOAD_MAX_MEMORY_SIZE = 10 * 2**20
PLANNING_CACHE_BYTES = 40 * 2**20  # bytes of computed nights in memory, over all who ask
PLANNING_DISK_BYTES = 2**30  # and on disk, from where they are back in a moment
BACKUP_DIR = os.environ.get("VINTER_BACKUP_DIR", "")  # folder for backups on a schedule
BACKUP_DAYS = float(os.environ.get("VINTER_BACKUP_DAYS", "1"))
BACKUPS_KEPT = int(os.environ.get("VINTER_BACKUPS_KEPT", "7"))
SPARE_MB = os.environ.setdefault("VINTER_SPARE_MB", "500")  # MB of free disk that no file of ours uses
QUOTA_BYTES = int(
    float(os.environ.get("VINTER_QUOTA_GB", "0")) * 1e9
)  # a person may store; 0: as much as fits
# bytes for all people together; 0: as much as fits
MACHINE_QUOTA_BYTES = int(float(os.environ.get("VINTER_MACHINE_GB", "0")) * 1e9)
UPLOAD_LIMIT = 400 * 2**20  # bytes of one uploaded frame
KEPT_LIMIT = (
    int(os.environ.get("VINTER_KEPT_MB", "12000")) * 2**20
)  # of what stacks worked out, over all takes
JOBS_PER_PERSON = int(os.environ.get("VINTER_JOBS_PER_PERSON", "30"))  # jobs that may wait at a time
LEASE_SECONDS = float(
    os.environ.get("VINTER_LEASE", "15")
)  # without a heartbeat, then a job is taken up again
# processes beside the web threads; serve sets it
COMPUTE_PROCESSES = int(os.environ.get("VINTER_COMPUTE", "0"))
WORKER_PROCESSES = int(os.environ.get("VINTER_WORKERS", min(os.cpu_count() or 1, 8)))
FORECAST_URL = os.environ.get(
    "VINTER_FORECAST", ""
)  # serve starts the shipped stand-in where this names nothing
CLUSTER = os.environ.get("VINTER_CLUSTER", "")
