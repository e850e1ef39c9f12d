# The application from its wheel: `make dist`, then `podman build --tag young-prism .` (docs/how-to/run-in-a-container.md).
FROM debian:bookworm-slim

# Debian's package versions follow its security updates; the Python packages below are locked.
# hadolint ignore=DL3008
RUN apt-get update \
 && apt-get install --yes --no-install-recommends python3 python3-venv \
 && rm -rf /var/lib/apt/lists/* \
 && useradd --system --uid 10001 --home-dir /data --create-home --shell /usr/sbin/nologin prism

COPY requirements/run.txt dist/*.whl /tmp/young-prism/
RUN python3 -m venv /opt/young-prism \
 && /opt/young-prism/bin/pip install --no-cache-dir --require-hashes --requirement /tmp/young-prism/run.txt \
 && /opt/young-prism/bin/pip install --no-cache-dir --no-deps /tmp/young-prism/*.whl \
 && rm -rf /tmp/young-prism

ENV PATH=/opt/young-prism/bin:$PATH
USER 10001
VOLUME /data
EXPOSE 8765
HEALTHCHECK --start-period=20s --interval=30s --timeout=5s \
  CMD ["python3", "-c", "import urllib.request; urllib.request.urlopen('http://127.0.0.1:8765/static/app.css', timeout=4)"]
ENTRYPOINT ["young-prism"]
CMD ["serve", "--listen", "0.0.0.0", "--data", "/data"]
