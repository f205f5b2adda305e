package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/daemon"
)

// secretRing reads the keys of secrets: from a file, or from the credential that systemd hands to the service. No file and no credential
// are no keys.
func secretRing(path string) (daemon.SecretRing, error) {
	if dir := os.Getenv("CREDENTIALS_DIRECTORY"); path == "" && dir != "" {
		if at := filepath.Join(dir, "secrets-key"); exists(at) {
			path = at
		}
	}
	if path == "" {
		return daemon.SecretRing{}, nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return daemon.SecretRing{}, fmt.Errorf("--secrets-key: %w", err)
	}
	ring, err := daemon.ReadSecretRing(text)
	if err != nil {
		return ring, usagef("--secrets-key: %s: %v", path, err)
	}
	return ring, nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func secretsKeyCommand() *cobra.Command {
	return &cobra.Command{Use: "secrets-key FILE", Short: "Make a key by which secrets are sealed in the database",
		Args: cobra.ExactArgs(1),
		Long: `Make a key by which secrets are sealed in the database: those of signing keys, webhooks, WireGuard probes,
authenticators and push messages. inkpost serve --secrets-key FILE uses it, and seals what is there already.
Whoever has a copy of the database alone cannot read them; without the key neither can you: keep it apart
from the backups, and keep it.

In a file that has keys already, the new one is put first: it seals from now on, the others still open.
inkpost serve seals everything anew at its next start; what was removed in the last 30 days still needs
the older keys.`,
		Example: "  inkpost secrets-key /etc/inkpost/secrets-key",
		RunE: func(cmd *cobra.Command, args []string) error {
			before, err := os.ReadFile(args[0])
			if err != nil && !errors.Is(err, os.ErrNotExist) {
				return err
			}
			if len(before) > 0 {
				if _, err := daemon.ReadSecretRing(before); err != nil {
					return fmt.Errorf("%s: %w; nothing was changed", args[0], err)
				}
			}
			next := args[0] + ".next"
			if err := os.WriteFile(next, append([]byte(daemon.NewSecretKey()+"\n"), before...), 0o600); err != nil {
				return err
			}
			if err := os.Rename(next, args[0]); err != nil {
				return err
			}
			say(cmd, "%s has a new key. Start inkpost serve --secrets-key %s, and keep a copy apart from the backups.", args[0], args[0])
			return nil
		}}
}
