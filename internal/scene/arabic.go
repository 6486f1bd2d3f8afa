package scene

// forms are where the letters of the Arabic script have their forms in the Unicode blocks Arabic Presentation Forms A
// and B, and how many: 1 (alone), 2 (alone, final) or 4 (alone, final, initial, medial), in this order.
var forms = map[rune]struct {
	first rune
	count int
}{
	'ء': {0xFE80, 1}, 'آ': {0xFE81, 2}, 'أ': {0xFE83, 2}, 'ؤ': {0xFE85, 2}, 'إ': {0xFE87, 2}, 'ئ': {0xFE89, 4},
	'ا': {0xFE8D, 2}, 'ب': {0xFE8F, 4}, 'ة': {0xFE93, 2}, 'ت': {0xFE95, 4}, 'ث': {0xFE99, 4}, 'ج': {0xFE9D, 4},
	'ح': {0xFEA1, 4}, 'خ': {0xFEA5, 4}, 'د': {0xFEA9, 2}, 'ذ': {0xFEAB, 2}, 'ر': {0xFEAD, 2}, 'ز': {0xFEAF, 2},
	'س': {0xFEB1, 4}, 'ش': {0xFEB5, 4}, 'ص': {0xFEB9, 4}, 'ض': {0xFEBD, 4}, 'ط': {0xFEC1, 4}, 'ظ': {0xFEC5, 4},
	'ع': {0xFEC9, 4}, 'غ': {0xFECD, 4}, 'ف': {0xFED1, 4}, 'ق': {0xFED5, 4}, 'ك': {0xFED9, 4}, 'ل': {0xFEDD, 4},
	'م': {0xFEE1, 4}, 'ن': {0xFEE5, 4}, 'ه': {0xFEE9, 4}, 'و': {0xFEED, 2}, 'ى': {0xFEEF, 2}, 'ي': {0xFEF1, 4},
	'پ': {0xFB56, 4}, 'چ': {0xFB7A, 4}, 'ژ': {0xFB8A, 2}, 'ک': {0xFB8E, 4}, 'گ': {0xFB92, 4}, 'ی': {0xFBFC, 4},
}

// lamAlef are the ligatures of lam with an alef: alone; the final form comes after it.
var lamAlef = map[rune]rune{'آ': 0xFEF5, 'أ': 0xFEF7, 'إ': 0xFEF9, 'ا': 0xFEFB}

const (
	lam    = 'ل'
	tatwil = 'ـ' // a stroke that letters on both sides join to
)

// isMark says whether a letter lies over or under another one, and joins nothing.
func isMark(r rune) bool { return r >= 0x064B && r <= 0x065F || r == 0x0670 }

// joined is a text with the letters of the Arabic script in the forms that they have beside each other (The Unicode
// Standard, section 9.2), in the order in which it is read.
func joined(s []rune) []rune {
	out := make([]rune, 0, len(s))
	before := false // the letter before joins to this one
	for i := 0; i < len(s); i++ {
		r := s[i]
		f, letter := forms[r]
		switch {
		case isMark(r):
			out = append(out, r)
			continue
		case r == tatwil:
			before = true
			out = append(out, r)
			continue
		case !letter:
			before = false
			out = append(out, r)
			continue
		}
		if i+1 < len(s) && r == lam && lamAlef[s[i+1]] != 0 {
			form := lamAlef[s[i+1]]
			if before {
				form++
			}
			out = append(out, form)
			before = false
			i++
			continue
		}
		after := f.count == 4 && joinsBefore(s[i+1:])
		form := f.first
		switch {
		case before && f.count > 1 && after:
			form += 3
		case after:
			form += 2
		case before && f.count > 1:
			form++
		}
		before = f.count == 4
		out = append(out, form)
	}
	return out
}

// joinsBefore says whether the first letter of a text joins to the one before it.
func joinsBefore(s []rune) bool {
	for _, r := range s {
		if !isMark(r) {
			return r == tatwil || forms[r].count > 1
		}
	}
	return false
}
