package chart

// Blocks deals columns out to blocks that fit beside a first column in so much room, each column with a gap before it.
// A column that is too wide by itself has a block of its own; room 0 is as much as it takes.
func Blocks(columns []int, first, gap, room int) (blocks [][]int) {
	used := 0
	for i, w := range columns {
		if len(blocks) == 0 || room > 0 && used+gap+w > room {
			blocks, used = append(blocks, nil), first
		}
		last := len(blocks) - 1
		blocks[last], used = append(blocks[last], i), used+gap+w
	}
	return blocks
}
