package clustertest

import (
	"archive/tar"
	"bytes"
	"os"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"
)

// Image makes an image of files by their names, a layer for each, that is run as a config says.
func Image(config v1.Config, files ...File) (v1.Image, error) {
	image := mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON)
	for _, f := range files {
		var out bytes.Buffer
		w := tar.NewWriter(&out)
		if err := w.WriteHeader(&tar.Header{Name: f.Name, Mode: 0o755, Size: int64(len(f.Content)), Typeflag: tar.TypeReg}); err != nil {
			return nil, err
		}
		w.Write(f.Content)
		if err := w.Close(); err != nil {
			return nil, err
		}
		var err error
		if image, err = mutate.AppendLayers(image, static.NewLayer(out.Bytes(), types.OCIUncompressedLayer)); err != nil {
			return nil, err
		}
	}
	file, err := image.ConfigFile()
	if err != nil {
		return nil, err
	}
	file = file.DeepCopy()
	file.OS, file.Architecture, file.Config = "linux", "amd64", config
	return mutate.ConfigFile(image, file)
}

// File is one of an image's.
type File struct {
	Name    string
	Content []byte
}

// Service makes an image of a made-up service: the program, and a file that says how it behaves, which the program runs.
func Service(program string, behaviour []byte) (v1.Image, error) {
	content, err := os.ReadFile(program)
	if err != nil {
		return nil, err
	}
	text := append([]byte("#!/aditus demo-service\n"), behaviour...)
	return Image(v1.Config{Entrypoint: []string{"/aditus", "demo-service", "/service"}, Env: []string{"HOST=0.0.0.0"}, User: "65532"}, File{"aditus", content}, File{"service", text})
}

// Push puts an image into a registry on this machine.
func Push(reference string, image v1.Image) error {
	ref, err := name.ParseReference(reference, name.Insecure)
	if err != nil {
		return err
	}
	return remote.Write(ref, image)
}
