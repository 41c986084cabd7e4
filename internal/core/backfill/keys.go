package backfill

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"lastboard/internal/engine"
)

// keyRange gives the condition that a key is above last, when there is one, and
// not above upper.
func keyRange(b *engine.Batch, last, upper string) (string, []any, error) {
	keys := b.Keys
	if b.Apart && len(keys) > 1 {
		return apart(keys, last, upper)
	}
	left, mark := keys[0], "?"
	if len(keys) > 1 {
		left = "(" + strings.Join(keys, ", ") + ")"
		mark = "(" + strings.TrimSuffix(strings.Repeat("?, ", len(keys)), ", ") + ")"
	}
	high, err := DecodeKey(upper)
	if err != nil {
		return "", nil, err
	}
	if last == "" {
		return left + " <= " + mark, high, nil
	}
	low, err := DecodeKey(last)
	if err != nil {
		return "", nil, err
	}
	return left + " > " + mark + " and " + left + " <= " + mark, append(low, high...), nil
}

// apart gives the condition with each column of the key compared for itself, for an
// engine that finds no range of an index by several at once.
func apart(keys []string, last, upper string) (string, []any, error) {
	condition, args, err := side(keys, "<", " <= ?", upper)
	if err != nil || last == "" {
		return condition, args, err
	}
	above, low, err := side(keys, ">", " > ?", last)
	return above + " and " + condition, append(low, args...), err
}

// side compares a key with one value: strictly in all columns but the last, which has
// its own comparison.
func side(keys []string, strict, end, value string) (string, []any, error) {
	values, err := DecodeKey(value)
	if err != nil {
		return "", nil, err
	}
	n := len(keys) - 1
	condition := keys[n] + end
	args := []any{values[n]}
	for i := n - 1; i >= 0; i-- {
		condition = keys[i] + " " + strict + " ? or " + keys[i] + " = ? and (" + condition + ")"
		args = append([]any{values[i], values[i]}, args...)
	}
	return "(" + condition + ")", args, nil
}

// EncodeKey writes a key as text that keeps the type of each value.
func EncodeKey(values []any) (string, error) {
	list := make([][2]string, len(values))
	for i, v := range values {
		switch v := v.(type) {
		case int64:
			list[i] = [2]string{"int", strconv.FormatInt(v, 10)}
		case float64:
			list[i] = [2]string{"real", strconv.FormatFloat(v, 'g', -1, 64)}
		case string:
			list[i] = [2]string{"text", v}
		case []byte:
			list[i] = [2]string{"blob", base64.StdEncoding.EncodeToString(v)}
		case bool:
			list[i] = [2]string{"bool", strconv.FormatBool(v)}
		default:
			return "", fmt.Errorf("a key holds %v, which is no key", v)
		}
	}
	data, err := json.Marshal(list)
	return string(data), err
}

// DecodeKey reads what [EncodeKey] wrote.
func DecodeKey(text string) ([]any, error) {
	var list [][2]string
	if err := json.Unmarshal([]byte(text), &list); err != nil {
		return nil, fmt.Errorf("the checkpoint %q: %w", text, err)
	}
	values := make([]any, len(list))
	var err error
	for i, v := range list {
		switch v[0] {
		case "int":
			values[i], err = strconv.ParseInt(v[1], 10, 64)
		case "real":
			values[i], err = strconv.ParseFloat(v[1], 64)
		case "blob":
			values[i], err = base64.StdEncoding.DecodeString(v[1])
		case "bool":
			values[i], err = strconv.ParseBool(v[1])
		default:
			values[i] = v[1]
		}
		if err != nil {
			return nil, fmt.Errorf("the checkpoint %q: %w", text, err)
		}
	}
	return values, nil
}

// Ranges gives the batches of so many rows each that a backfill has by the keys of now, but for the last one, which is
// open. The error is the engine's, as where its table is not there yet.
func Ranges(ctx context.Context, db engine.Database, b *engine.Batch, rows int) (list []engine.KeyRange, err error) {
	last := ""
	for {
		condition, args := "true", []any(nil)
		if last != "" {
			if condition, args, err = behind(b, last); err != nil {
				return nil, err
			}
		}
		next, err := db.Query(ctx, strings.ReplaceAll(b.Next, engine.Range, condition), append(args, int64(rows-1))...)
		if err != nil || len(next.Values) == 0 {
			return list, err
		}
		key, err := EncodeKey(next.Values[0])
		if err != nil {
			return nil, err
		}
		one, args, err := keyRange(b, last, key)
		if err != nil {
			return nil, err
		}
		r := engine.KeyRange{Condition: engine.Bind(one, args), Last: key}
		if one, args, err = behind(b, key); err != nil {
			return nil, err
		}
		r.Behind = engine.Bind(one, args)
		list, last = append(list, r), key
	}
}

// behind gives the condition that a key is above another.
func behind(b *engine.Batch, last string) (string, []any, error) {
	if b.Apart && len(b.Keys) > 1 {
		return side(b.Keys, ">", " > ?", last)
	}
	values, err := DecodeKey(last)
	if len(b.Keys) == 1 {
		return b.Keys[0] + " > ?", values, err
	}
	return "(" + strings.Join(b.Keys, ", ") + ") > (" + strings.TrimSuffix(strings.Repeat("?, ", len(b.Keys)), ", ") + ")",
		values, err
}
