package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"piedmont/internal/config"
	"piedmont/internal/publish"
	"piedmont/internal/publish/folder"
	"piedmont/internal/publish/pageclient"
)

// openDestination makes a destination of its description. A new kind is one
// more case here.
func openDestination(ctx context.Context, root string, d *config.Destination) (publish.Destination, error) {
	switch d.Kind {
	case "release-page":
		address, err := addressOf(d)
		if err != nil {
			return nil, err
		}
		token, err := publish.Secret(ctx, root, d.Token)
		if err != nil {
			return nil, err
		}
		return pageclient.New(address, token, d.Token.String()), nil
	case "folder":
		path := d.Path
		if !filepath.IsAbs(path) {
			path = filepath.Join(root, path)
		}
		return folder.Folder{Path: path, Site: d.Site}, nil
	}
	return nil, fmt.Errorf("destination %q has the unknown kind %q", d.Name, d.Kind)
}

func addressOf(d *config.Destination) (string, error) {
	name, fromEnv := strings.CutPrefix(d.URL, "env:")
	if !fromEnv {
		return d.URL, nil
	}
	address := os.Getenv(name)
	if address == "" {
		return "", &publish.Refusal{Reason: fmt.Sprintf("the environment variable %s, which holds the address, is not set", name), Mend: "Set it: export " + name + "=https://…"}
	}
	if err := config.CheckAddress(address); err != nil {
		return "", &publish.Refusal{Reason: fmt.Sprintf("the address in the environment variable %s: %v", name, err), Mend: "Set it: export " + name + "=https://…"}
	}
	return address, nil
}
