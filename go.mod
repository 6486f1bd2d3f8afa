module twinshelf

go 1.26.0

require (
	github.com/adrg/xdg v0.5.3
	github.com/klauspost/compress v1.20.3
	github.com/spf13/cobra v1.10.2
	github.com/zeebo/blake3 v0.2.4
	golang.org/x/sys v0.49.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/klauspost/cpuid/v2 v2.0.12 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
)
