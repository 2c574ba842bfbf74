package git_test

import (
	"context"
	"fmt"
	"os"

	"piedmont/internal/project/git"
)

func ExampleRepo_Facts() {
	dir, _ := os.MkdirTemp("", "git-*")
	defer func() { _ = os.RemoveAll(dir) }()
	_, err := git.Repo{Dir: dir}.Facts(context.Background())
	fmt.Println(err)
	// Output: this folder is not in a git repository: run "git init" and commit the project
}
