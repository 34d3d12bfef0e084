package layer

// Unescape is a field of fstab(5) as it is meant: blanks and the like are written as a backslash and three octal digits.
func Unescape(field string) string {
	b := make([]byte, 0, len(field))
	for i := 0; i < len(field); i++ {
		if field[i] == '\\' && i+3 < len(field) {
			n, octal := 0, true
			for _, c := range field[i+1 : i+4] {
				octal = octal && c >= '0' && c <= '7'
				n = n*8 + int(c-'0')
			}
			if octal && n < 256 {
				b = append(b, byte(n))
				i += 3
				continue
			}
		}
		b = append(b, field[i])
	}
	return string(b)
}
