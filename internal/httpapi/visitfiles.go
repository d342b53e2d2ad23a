package httpapi

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strconv"
	"time"

	"plumlatch/internal/httpapi/contract"
	"plumlatch/internal/service/problem"
	"plumlatch/internal/sshio"
)

func (a *api) ListVisitFiles(
	ctx context.Context, r contract.ListVisitFilesRequestObject,
) (contract.ListVisitFilesResponseObject, error) {
	f, err := a.Service.Visits.Files(ctx, actorOf(ctx), r.Visit, given(r.Params.Path))
	return contract.ListVisitFiles200JSONResponse{
		Path:    f.Path,
		LeftOut: f.Left,
		Entries: each(f.Entries, func(e sshio.Listed) contract.VisitFile {
			return contract.VisitFile{Name: e.Name, Kind: kindOf(e.Mode), Size: e.Size, ChangedAt: e.At.UTC()}
		}),
	}, err
}

func kindOf(mode fs.FileMode) contract.VisitFileKind {
	switch {
	case mode.IsRegular():
		return contract.VisitFileKindFile
	case mode.IsDir():
		return contract.VisitFileKindFolder
	case mode&fs.ModeSymlink != 0:
		return contract.VisitFileKindLink
	}
	return contract.VisitFileKindOther
}

// pieceWithin is how long a piece of a file may take, to be sent or to come.
const pieceWithin = time.Minute

func (a *api) FetchVisitFile(
	ctx context.Context, r contract.FetchVisitFileRequestObject,
) (contract.FetchVisitFileResponseObject, error) {
	return visitFile{ctx, a, r}, nil
}

// visitFile is a file of a login, as it is read.
type visitFile struct {
	ctx     context.Context
	api     *api
	request contract.FetchVisitFileRequestObject
}

func (f visitFile) VisitFetchVisitFileResponse(w http.ResponseWriter) error {
	control := requestOf(f.ctx).control
	begun := false
	name := f.request.Params.Path
	err := f.api.Service.Visits.Fetch(f.ctx, actorOf(f.ctx), f.request.Visit, name, func(r io.Reader, size int64) error {
		h := w.Header()
		h.Set("Content-Type", "application/octet-stream")
		attached := mime.FormatMediaType("attachment", map[string]string{"filename": path.Base(name)})
		h.Set("Content-Disposition", cmp.Or(attached, "attachment"))
		h.Set("Content-Length", strconv.FormatInt(size, 10))
		begun = true
		n, err := io.Copy(w, extending{r, func() error { return control.SetWriteDeadline(time.Now().Add(pieceWithin)) }})
		if err == nil && n < size {
			err = errors.New("the file became shorter meanwhile")
		}
		return err
	})
	if err != nil && begun { // the head is sent, so the connection is cut for the reader to see that it is not all
		f.api.Log.Warn("a file was not sent to its end", "id", requestOf(f.ctx).id, "err", err)
		panic(http.ErrAbortHandler)
	}
	return err
}

func (a *api) PutVisitFile(
	ctx context.Context, r contract.PutVisitFileRequestObject,
) (contract.PutVisitFileResponseObject, error) {
	control := requestOf(ctx).control
	if err := control.SetWriteDeadline(time.Time{}); err != nil {
		return nil, err
	}
	body := extending{r.Body, func() error { return control.SetReadDeadline(time.Now().Add(pieceWithin)) }}
	if requestOf(ctx).raw.ContentLength < 0 {
		return nil, &problem.Problem{
			Kind: problem.Invalid, Code: "no-length", Detail: "the request does not say how long the file is",
			Remedy: "Send it with Content-Length",
		}
	}
	put, err := a.Service.Visits.Put(ctx, actorOf(ctx), r.Visit, r.Params.Path, given(r.Params.Replace), body)
	return contract.PutVisitFile200JSONResponse{Path: r.Params.Path, Size: put.Bytes, Sha256: put.SHA256}, err
}

// extending has more time given before each piece.
type extending struct {
	io.Reader
	more func() error
}

func (e extending) Read(p []byte) (int, error) {
	if err := e.more(); err != nil {
		return 0, err
	}
	return e.Reader.Read(p)
}
