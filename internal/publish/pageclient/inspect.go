package pageclient

import (
	"context"
	"net/http"
	"slices"

	"piedmont/internal/base/httpx"
	"piedmont/internal/publish"
	"piedmont/internal/release"
	"piedmont/internal/serve/api"
)

// Inspect asks what the token may do, and whether the version is public.
func (p *Page) Inspect(ctx context.Context, project, version string) (publish.Inspection, error) {
	m := &release.Manifest{Project: release.Project{Name: project}, Version: version}
	var rights api.RightsAnswer
	if err := p.call(ctx, m, http.MethodGet, "", nil, &rights); err != nil {
		return publish.Inspection{}, err
	}
	s := publish.Inspection{Says: "it answers, and the token may upload and publish", Clock: rights.Time}
	for _, need := range []string{api.RightUpload, api.RightPublish} {
		if !slices.Contains(rights.Rights, need) {
			s.Lacks = append(s.Lacks, need)
		}
	}
	if version == "" {
		return s, nil
	}
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, p.URL+"/"+project+"/"+version+"/"+release.Name, nil)
	if err != nil {
		return s, err
	}
	resp, err := p.client.Do(req)
	if err != nil {
		return s, httpx.Explain(err, p.URL)
	}
	_ = resp.Body.Close()
	if resp.StatusCode == http.StatusOK {
		s.Public = version
	}
	return s, nil
}
