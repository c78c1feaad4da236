"""The nginx in front of a team's server: a private configuration, port and process; an nginx that was not started here is never touched.

It buffers slow requests and slow readers, limits bodies, rates and connections of each client, speaks TLS where a certificate is named,
and serves the files of the screens. The web server listens on a socket beside it that only nginx opens.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

PROGRAMS = [Path(found) for found in (shutil.which("nginx"), "/usr/sbin/nginx") if found]
#: Where nginx's own user has to reach its files, and a checkout below /root can't be: as root only.
SYSTEM = Path("/var/lib/varlen")
#: The longest path of a socket, less what is appended.
LONGEST_SOCKET = 90

CONFIG = """
{user}worker_processes auto;
daemon off;
pid {folder}/nginx.pid;
error_log stderr warn;
events {{ worker_connections 4096; }}
http {{
    access_log off;
    server_tokens off;
    sendfile on;
    include /etc/nginx/mime.types;
    default_type application/octet-stream;
    client_body_temp_path {folder}/body;
    proxy_temp_path {folder}/answers;
    fastcgi_temp_path {folder}/unused; uwsgi_temp_path {folder}/unused; scgi_temp_path {folder}/unused;

    # A slow client costs nginx a few kilobytes; the web server sees whole requests alone.
    client_header_timeout 30s;
    client_body_timeout 30s;
    send_timeout 20s;
    keepalive_timeout 75s;
    large_client_header_buffers 4 32k;
    client_max_body_size {body_mb}m;

    limit_conn_zone $binary_remote_addr zone=connections:4m;
    limit_req_zone $binary_remote_addr zone=requests:4m rate={rate}r/s;
    limit_conn connections {connections};
    limit_conn_status 429;
    limit_req_status 429;
    limit_req_log_level info;
    limit_conn_log_level info;
{real_ip}
    upstream web {{ server unix:{socket} fail_timeout=0; keepalive 32; }}
    server {{
        listen {listen}{tls};
{certificate}        proxy_http_version 1.1;
        proxy_set_header Connection "";
        proxy_set_header Host $http_host;
        proxy_set_header X-Real-IP $remote_addr;
        proxy_set_header X-Forwarded-Proto {scheme};
        proxy_set_header X-Forwarded-For "";
        # While the web server is started again, a request waits for it.
        proxy_connect_timeout 60s;
        proxy_read_timeout 130s;
        proxy_buffers 16 64k;
        proxy_buffer_size 64k;
        proxy_busy_buffers_size 128k;
        location /assets/ {{
            root {folder}/web;
            gzip_static on;
            add_header Cache-Control "public, max-age=31536000, immutable";
            add_header X-Content-Type-Options nosniff;
        }}
        location ~ ^/api/imports/[0-9]+/files$ {{
            client_max_body_size {upload_mb}m;
            limit_req zone=requests burst={burst} nodelay;
            proxy_pass http://web;
        }}
        location / {{
            limit_req zone=requests burst={burst} nodelay;
            proxy_pass http://web;
        }}
    }}
}}
"""


@dataclass(frozen=True)
class Limits:
    """Of one client's address: connections at once, requests a second and at once; of every request the body."""

    connections: int = 64
    rate: int = 200
    burst: int = 600
    body_mb: int = 8
    upload_mb: int = 4096


def folder_for(state: Path) -> Path:
    """The folder of this state's nginx."""
    if os.geteuid() == 0:
        return SYSTEM / f"nginx-{hashlib.sha256(str(state.absolute()).encode()).hexdigest()[:12]}"
    return state.absolute() / "nginx"


def socket_in(folder: Path) -> Path:
    """Where the web server listens. A path too long for a socket is replaced by a short one in a folder of our own."""
    path = folder / "web.sock"
    if len(str(path)) <= LONGEST_SOCKET:
        return path
    short = Path(tempfile.gettempdir()) / f"varlen-{os.geteuid()}-{hashlib.sha256(str(folder).encode()).hexdigest()[:12]}"
    short.mkdir(mode=0o700, exist_ok=True)
    if short.is_symlink() or short.stat().st_uid != os.geteuid():
        sys.exit(f"{short} belongs to another user")
    return short / "web.sock"


def prepare(
    state: Path, host: str, port: int, screens: Path, certificate: tuple[str, str] | None, behind_tls: bool, limits: Limits = Limits()
) -> Path:
    """Write the configuration, and copy the screens' files to where nginx may read them; returns the folder. Exits where nginx can't be used."""
    if not PROGRAMS:
        sys.exit("nginx is missing: run 'apt-get install nginx-light' as root, and start again")
    folder = folder_for(state)
    folder.mkdir(parents=True, exist_ok=True)
    shutil.rmtree(folder / "web", ignore_errors=True)
    if (screens / "assets").is_dir():
        shutil.copytree(screens / "assets", folder / "web" / "assets")
    lines = ""
    if certificate:
        for name in certificate:
            if not Path(name).is_file():
                sys.exit(f"{name}: there is no such file")
        cert, key = (Path(name).absolute() for name in certificate)
        lines = f"        ssl_certificate {cert};\n        ssl_certificate_key {key};\n        ssl_protocols TLSv1.2 TLSv1.3;\n"
    shown = f"[{host}]:{port}" if ":" in host else f"{host or '0.0.0.0'}:{port}"
    text = CONFIG.format(
        user="user www-data;\n" if os.geteuid() == 0 else "", folder=folder, socket=socket_in(folder), listen=shown,
        tls=" ssl" if certificate else "", certificate=lines,
        # A proxy of the team's own, which speaks TLS, stands before this one: its last word on the client's address counts.
        real_ip="    set_real_ip_from 0.0.0.0/0;\n    set_real_ip_from ::/0;\n    real_ip_header X-Forwarded-For;\n" if behind_tls else "",
        scheme="$http_x_forwarded_proto" if behind_tls else "$scheme", **vars(limits),
    )  # fmt: skip
    (folder / "nginx.conf").write_text(text)
    checked = subprocess.run([*command(folder), "-t", "-q"], stderr=subprocess.PIPE, text=True)
    if checked.returncode:
        sys.exit(f"nginx refuses its configuration: {checked.stderr.strip()}")
    return folder


def command(folder: Path) -> list[str]:
    return [str(PROGRAMS[0]), "-e", "stderr", "-p", str(folder), "-c", str(folder / "nginx.conf")]
