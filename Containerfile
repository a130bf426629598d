# Rallo in a container: podman build -t rallo . && podman run --rm -it -p 127.0.0.1:4680:4680 -v PICTURES:/pictures -v rallo:/data rallo
# Beyond the machine it runs on the pages ask for a passphrase, which is set once before the first start:
#   podman run --rm -i -v rallo:/data --entrypoint rallo rallo passphrase
FROM rust:1-trixie AS build
RUN apt-get update && apt-get install -y --no-install-recommends g++ make cmake nasm
WORKDIR /rallo
COPY . .
RUN cargo build --release --locked --bin rallo

FROM debian:trixie-slim
RUN apt-get update \
 && apt-get install -y --no-install-recommends ffmpeg libheif-examples libheif-plugin-libde265 libheif-plugin-dav1d libjxl-tools libtiff-tools util-linux \
 && rm -rf /var/lib/apt/lists/*
COPY --from=build /rallo/target/release/rallo /usr/bin/rallo
ENV RALLO_DATA=/data
VOLUME ["/pictures", "/data"]
EXPOSE 4680
ENTRYPOINT ["rallo"]
CMD ["serve", "--root", "/pictures", "--listen", "0.0.0.0"]
