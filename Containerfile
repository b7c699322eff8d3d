# The whole of Green Lever in one image: `serve` (the default), `outpost`, and the command line.
FROM docker.io/library/node:20-bookworm AS console
FROM docker.io/library/golang:1.26-bookworm AS build
COPY --from=console /usr/local/bin/node /usr/local/bin/node
COPY --from=console /usr/local/lib/node_modules /usr/local/lib/node_modules
RUN ln -s ../lib/node_modules/npm/bin/npm-cli.js /usr/local/bin/npm && ln -s ../lib/node_modules/npm/bin/npx-cli.js /usr/local/bin/npx
WORKDIR /src
COPY . .
RUN make build && CGO_ENABLED=0 go build -trimpath -ldflags=-s -o /greenlever ./cmd/greenlever

FROM docker.io/library/debian:bookworm-slim
RUN apt-get update && apt-get install -y --no-install-recommends ca-certificates && rm -rf /var/lib/apt/lists/* \
	&& useradd --system --create-home --home-dir /data greenlever
COPY --from=build /greenlever /usr/local/bin/greenlever
USER greenlever
VOLUME /data
ENV GREENLEVER_SERVE_LISTEN=0.0.0.0:8090 GREENLEVER_SERVE_DIR=/data GREENLEVER_SERVE_LOG_FORMAT=json \
	GREENLEVER_OUTPOST_LISTEN=0.0.0.0:8095 GREENLEVER_OUTPOST_DIR=/data GREENLEVER_OUTPOST_LOG_FORMAT=json
EXPOSE 8090 8095
STOPSIGNAL SIGTERM
ENTRYPOINT ["greenlever"]
CMD ["serve"]
