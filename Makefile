GO      ?= go
BIN     := bin/zygos
export CGO_ENABLED = 0

$(BIN): $(shell find cmd internal demo -type f 2>/dev/null) go.mod go.sum
	$(GO) build -trimpath -ldflags='-s -w' -o $@ ./cmd/zygos
