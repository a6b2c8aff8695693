package gateway

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// MaxDocument is the largest document Parse takes, in bytes.
const MaxDocument = 64 << 20

// document is the envelope of RFC 7951 for the module wideknot-gateway.
type document[T any] struct {
	Gateway *T `json:"wideknot-gateway:gateway,omitempty"`
	State   *T `json:"wideknot-gateway:state,omitempty"`
}

// Write returns a configuration as JSON by RFC 7951 and the module wideknot-gateway.
func Write(c *Config) ([]byte, error) { return write(document[Config]{Gateway: c}) }

// Parse reads what Write writes. The error names what is wrong; nothing is taken
// that could not be applied.
func Parse(text []byte) (*Config, error) {
	var d document[Config]
	if err := read(text, &d); err != nil {
		return nil, fmt.Errorf("the configuration cannot be used: %w", err)
	}
	if d.Gateway == nil || d.State != nil {
		return nil, errors.New("the configuration cannot be used: it has no wideknot-gateway:gateway alone")
	}
	if err := d.Gateway.Check(); err != nil {
		return nil, fmt.Errorf("the configuration cannot be used: %w", err)
	}
	return d.Gateway, nil
}

func write(d any) ([]byte, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", " ")
	if err := encoder.Encode(d); err != nil {
		return nil, fmt.Errorf("writing a gateway's document: %w", err)
	}
	return out.Bytes(), nil
}

func read(text []byte, into any) error {
	if len(text) > MaxDocument {
		return fmt.Errorf("it is larger than %d MB", MaxDocument>>20)
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.DisallowUnknownFields()
	if err := decoder.Decode(into); err != nil {
		return err
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return errors.New("something follows the document")
	}
	return nil
}
