package estate_test

import (
	"reflect"
	"testing"

	"wideknot/core/estate"
	"wideknot/core/sample"
)

// Whatever is done to a copy, the original stays as it was.
func TestCloneSharesNothing(t *testing.T) {
	for seed := range uint64(60) {
		e, same := sample.Mixed(seed), sample.Mixed(seed)
		c := e.Clone()
		if !reflect.DeepEqual(c, same) {
			t.Fatalf("seed %d: the copy differs", seed)
		}
		c.Allocations = estate.Allocations{} // shared, and never changed
		spoil(reflect.ValueOf(c).Elem())
		if !reflect.DeepEqual(e, same) {
			t.Fatalf("seed %d: the original changed with its copy", seed)
		}
	}
}

// spoil empties all that a value leads to.
func spoil(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			spoil(v.Elem())
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				spoil(v.Field(i))
			}
		}
	case reflect.Slice:
		for i := range v.Len() {
			spoil(v.Index(i))
			v.Index(i).SetZero()
		}
	}
	if v.CanSet() && v.Kind() != reflect.Slice && v.Kind() != reflect.Pointer {
		v.SetZero()
	}
}
