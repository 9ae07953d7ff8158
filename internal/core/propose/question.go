package propose

// Question is a doubt that a person can settle.
type Question struct {
	Where   string   // TABLE.COLUMN
	Why     string   // what was seen
	Choices []Choice // the guess first

	key string
}

// Choice is an answer to a question.
type Choice struct {
	Says   string
	answer answer
}

// answer is what a choice means.
type answer string

const (
	asProposed answer = "as proposed"
	asText     answer = "text"
	blankable  answer = "blank"
	asValue    answer = "value"
	leftOut    answer = "left out"
	refers     answer = "refers"
	noKey      answer = "no key"
)

// Answers are those to questions. The zero Answers are none.
type Answers struct{ given map[string]answer }

// With returns the answers and one more: the choice with number n of a question, from 0.
func (a Answers) With(q *Question, n int) Answers {
	made := Answers{map[string]answer{q.key: q.Choices[n].answer}}
	for key, given := range a.given {
		if key != q.key {
			made.given[key] = given
		}
	}
	return made
}

// settle returns the answer to a doubt about a column; without one it is the guess, and the doubt is told.
func (m *maker) settle(t *Table, c *Column, why string, choices ...Choice) answer {
	key := t.From + "\x00" + c.Header + "\x00" + why
	if given, answered := m.Answers.given[key]; answered {
		return given
	}
	c.doubt(why)
	m.made.Questions = append(m.made.Questions, &Question{t.Name + "." + c.Name, why, choices, key})
	return choices[0].answer
}
