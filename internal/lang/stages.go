package lang

import (
	"context"
	"strings"

	"piedmont/internal/plan"
)

// runValues are the placeholders that are known only when a build runs.
type runValues struct {
	stage, work, triplet, jobs string
	stages                     Stages
}

// fillAll fills what the plan has left in texts.
func fillAll(texts []string, v runValues) []string {
	pairs := []string{"{stage}", v.stage, "{work}", v.work, "{triplet}", v.triplet, "{jobs}", v.jobs}
	for name, dir := range v.stages {
		pairs = append(pairs, "{stage."+name+"}", dir)
	}
	r := strings.NewReplacer(pairs...)
	out := make([]string, len(texts))
	for i, t := range texts {
		out[i] = r.Replace(t)
	}
	return out
}

// stageSums are digests over the stages that a build needs.
func stageSums(ctx context.Context, in *Inputs, b plan.Build, stages Stages) ([]string, error) {
	var out []string
	for _, need := range b.Needs {
		sum, err := folderSum(ctx, in, stages[need.Program])
		if err != nil {
			return nil, err
		}
		out = append(out, need.Program+" "+sum)
	}
	return out, nil
}
