package plan

import "lastboard/internal/engine"

// Longest gives the step that keeps writers waiting throughout, or at its end for longer
// than they may wait; that for which they wait the longest if there are several, nil if
// there is none.
func (p *Plan) Longest() (longest *engine.Step) {
	most := -1.0
	for _, s := range p.Steps {
		wait := s.Pause
		if s.WritersWait == engine.WaitThroughout {
			wait = s.Seconds
		} else if s.WritersWait == engine.WaitNo || wait <= p.short {
			continue
		}
		if wait > most {
			longest, most = s, wait
		}
	}
	return longest
}

// Units parts steps into those that share a transaction: transactions differ in
// whether foreign keys act, and a backfill in batches has its own, as has what asks for
// it.
func Units(steps []*engine.Step) [][]*engine.Step {
	var units [][]*engine.Step
	for i, s := range steps {
		if i == 0 || alone(s) || alone(steps[i-1]) || s.ForeignKeysOff != steps[i-1].ForeignKeysOff {
			units = append(units, nil)
		}
		units[len(units)-1] = append(units[len(units)-1], s)
	}
	return units
}

// Seconds estimates how long a run of the steps takes.
func Seconds(steps []*engine.Step, about *engine.About) float64 {
	sum := about.RunSeconds + about.UnitSeconds*float64(len(Units(steps)))
	for _, s := range steps {
		sum += s.Seconds
	}
	return sum
}

// Seconds estimates how long a run of the plan takes; 0 for one that could not be made.
func (p *Plan) Seconds() float64 {
	if p.about == nil {
		return 0
	}
	return Seconds(p.Steps, p.about)
}

// alone reports whether a step shares its transaction with no other.
func alone(s *engine.Step) bool { return s.Batch != nil || s.Alone || s.Outside != nil }

// held estimates in seconds for how long one transaction keeps its locks; a
// backfill in batches lets go between them.
func held(unit []*engine.Step) float64 {
	var sum float64
	for _, s := range unit {
		switch {
		case s.Batch != nil || s.WritersWait == engine.WaitNo:
		case (s.Outside != nil || s.Pause > 0) && s.WritersWait == engine.WaitBriefly:
			sum += s.Pause
		default:
			sum += s.Seconds
		}
	}
	return sum
}

// LongestWait estimates in seconds how long a writer may have to wait.
func (p *Plan) LongestWait() float64 {
	var longest float64
	for _, unit := range Units(p.Steps) {
		longest = max(longest, held(unit))
	}
	return longest
}
