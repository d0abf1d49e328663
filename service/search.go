package service

import (
	"context"
	"strings"

	"wardicon/api"
)

// Bounds of a search over all nouns.
const (
	mostOfNoun    = 5 // of each noun
	shortestFound = 2 // characters
)

// Search finds records of every noun by a text.
func (s *Service) Search(ctx context.Context, text string) ([]api.FoundRecord, error) {
	list := []api.FoundRecord{}
	if text = strings.TrimSpace(text); len([]rune(text)) < shortestFound {
		return list, nil
	}
	for _, n := range s.Nouns.All() {
		found, err := n.Find(ctx, text, mostOfNoun)
		if err != nil {
			return nil, err
		}
		list = append(list, found...)
	}
	return list, nil
}
