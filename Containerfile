# An image with nothing but Hodstone, for the parts of a load:
#   CGO_ENABLED=0 make build && podman build -t hodstone .
FROM scratch
COPY bin/hodstone /hodstone
ENTRYPOINT ["/hodstone"]
