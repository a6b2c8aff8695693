package api

import (
	"encoding/json"
	"fmt"

	"github.com/danielgtaylor/huma/v2"

	"wideknot/core/estate"
)

// A problem document says at most so many errors, and quotes no value longer
// than this: an answer must not grow with what was sent.
const (
	mostErrors = estate.MaxProblems + 1 // the last counts the rest
	mostQuoted = 200
)

func init() {
	plain := huma.NewError
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		more := len(errs) - mostErrors
		if more > 0 {
			errs = errs[:mostErrors]
		}
		out := plain(status, message, errs...)
		model, ok := out.(*huma.ErrorModel)
		if !ok {
			return out
		}
		for _, e := range model.Errors {
			// A whole body is quoted to nobody, whatever its length.
			if text, err := json.Marshal(e.Value); err != nil || len(text) > mostQuoted || e.Location == "body" {
				e.Value = nil
			}
			e.Message = cutText(e.Message)
		}
		model.Detail = cutText(model.Detail)
		if more > 0 {
			model.Errors = append(model.Errors, &huma.ErrorDetail{Message: fmt.Sprintf("and %d more", more)})
		}
		return model
	}
	huma.NewErrorWithContext = func(_ huma.Context, status int, message string, errs ...error) huma.StatusError {
		return huma.NewError(status, message, errs...)
	}
}

// cutText shortens a message that quotes what was sent.
func cutText(text string) string {
	const most = 2000
	if len(text) <= most {
		return text
	}
	left := most
	for i := range text {
		if i > left {
			return text[:i] + "…"
		}
	}
	return text
}
