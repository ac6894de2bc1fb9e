package secret

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
)

// Given reads a secret from the file into which the tool puts, when it deploys, what the household file names.
func Given(file, name string) (string, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return "", errors.New("its secret is not there; run cozyshelf deploy")
	}
	var all map[string]string
	if err := json.Unmarshal(b, &all); err != nil {
		return "", fmt.Errorf("the secrets cannot be read; run cozyshelf deploy: %w", err)
	}
	if all[name] == "" {
		return "", errors.New("it has no secret; run cozyshelf deploy")
	}
	return all[name], nil
}
