"""The decision trees of the decoder, and the lists that its quick way reads in their place."""
from generator.notation import *
from generator.rows import immediates_of

# The questions of the decision trees: where their answer lies in the decoder's context word (decoder.cpp), how many
# bits it has, how many values. The order is the order of the questions.
DIMENSIONS = {
    "pp": (8, 2, 4), "mod": (6, 1, 2), "reg": (3, 3, 8), "rm": (0, 3, 8), "w": (10, 1, 2), "l": (11, 2, 4),
    "osize": (13, 2, 3), "asize": (15, 2, 3), "rexb": (17, 1, 2),
}


def needs_in(row, mode):
    if mode == 1 or not row.w_only_in_64_bits:
        return row.needs
    return {key: value for key, value in row.needs.items() if key != "w"}


class Tree:
    """Decision trees packed into one array. A node says where its children stand (bits 0 to 15), and by which shift and
    mask of the context word one of them is picked (bits 16 to 20, 21 to 23). The first nodes are the rows by number and
    'no instruction' after them; they lead to themselves."""

    def __init__(self, number, rows):
        self.cells, self.number, self.known = list(range(rows + 1)), number, {}
        self.none = rows

    def build(self, rows):
        """rows: (row, needs still open, precision)"""
        if not rows:
            return self.none
        for dimension, (shift, bits, values) in DIMENSIONS.items():
            if not any(dimension in needs for _, needs, _ in rows):
                continue
            children = []
            for value in range(1 << bits):
                chosen = []
                for row, needs, precision in rows:
                    wanted = needs.get(dimension)
                    if value >= values or (wanted is not None and value not in wanted):
                        continue
                    rest = {k: v for k, v in needs.items() if k != dimension}
                    chosen.append((row, rest, precision + (wanted is not None)))
                best = max((p for _, n, p in chosen if not n), default=-1)
                children.append(self.build(chosen) if best < 0 or any(n for _, n, _ in chosen) else self.leaf(chosen))
            if len(set(children[:values])) == 1:
                return children[0]
            branch = tuple(children)
            if branch not in self.known:
                self.known[branch] = len(self.cells)
                self.cells += branch
            return self.known[branch] | shift << 16 | ((1 << bits) - 1) << 21
        return self.leaf(rows)

    def ask(self, node, answers):
        """The row that a tree leads to, by the answers to its questions: a function from a shift to one."""
        while node >> 21:
            node = self.cells[(node & 0xffff) + (answers(node >> 16 & 31) & node >> 21)]
        return node

    def questions(self, node):
        """The dimensions of all questions that a tree may ask."""
        if not node >> 21:
            return set()
        children = self.cells[node & 0xffff:(node & 0xffff) + (node >> 21) + 1]
        own = next(dimension for dimension, (shift, _, _) in DIMENSIONS.items() if shift == node >> 16 & 31)
        return {own}.union(*map(self.questions, children))

    def leaf(self, rows):
        best = max(precision for _, _, precision in rows)
        winners = [row for row, _, precision in rows if precision == best]
        if len(winners) > 1:
            fail(winners[1].place, f"claims the same bytes as {winners[0].place}")
        return self.number[id(winners[0])]


def restrict_modes(rows):
    """What only REX or the address size of one mode gives exists in that mode only."""
    for row in rows:
        if row.space == "legacy" and ({1} in (row.needs.get("w"), row.needs.get("rexb")) or
                                      row.needs.get("osize") == {2}) or row.needs.get("asize") == {2}:
            row.modes = row.modes & {1}
        if row.needs.get("asize") == {0}:
            row.modes = row.modes & {0}


def ignore_w_in_32_bits(rows):
    """Outside 64-bit mode W does not widen general registers (Intel SDM volume 2, 2.3.6): there the row with W=1 does
    not exist, and the one with W=0 holds for both. Moves of masks with 64 bits are invalid instead."""
    wide = set()
    for row in rows:
        if row.space != "legacy" and row.needs.get("w") == {1} and any(re.fullmatch("[ERGB]q", w) for w in row.operands):
            row.modes = row.modes & {1}
            if not any(w[0] == "k" for w in row.operands):
                wide.add((row.space, row.map, row.opcode, tuple(row.needs.get("pp", ()))))
    for row in rows:
        if row.needs.get("w") == {0} and (row.space, row.map, row.opcode, tuple(row.needs.get("pp", ()))) in wide:
            row.w_only_in_64_bits = True


FIELD_BYTES = {"none": (0, 0, 0), "bytes1": (1, 1, 1), "bytes2": (2, 2, 2), "bytes4": (4, 4, 4),
               "operand32": (2, 4, 4), "operand": (2, 4, 8), "far": (4, 6, 6)}


def lengths_of(cell, mode):
    """Bytes of immediates for each raw operand size, when all rows of an opcode agree; else the mark that the row must
    be asked. kFieldBytes in decoder.cpp says the same by row."""
    answers = set()
    for row in cell:
        traits, answer = row.operation.traits, [0, 0, 0]
        if immediates_of(row)[1] != "none":
            return 1 << 13
        for field in immediates_of(row):
            if field == "address":
                return 1 << 13
            for i in range(3):
                size = i
                if mode == 1 and "near" in traits:
                    size = 2
                if mode == 1 and "stack" in traits and i == 1:
                    size = 2
                if field == "branch":
                    answer[i] += 2 if size == 0 else 4
                else:
                    answer[i] += FIELD_BYTES[field][size]
        answers.add(tuple(answer))
    if len(answers) != 1:
        return 1 << 13
    answer = answers.pop()
    return answer[0] | answer[1] << 4 | answer[2] << 8


class Quick:
    """The first two opcode maps once more, for the decoder's quick way: what it knows besides the opcode are 13 bits;
    those of them that matter to an opcode, put together, are a place in its list of rows."""
    BITS = {"rm": 0x7, "reg": 0x38, "mod": 0xc0, "pp": 0x300, "w": 0x400, "rexb": 0x800, "osize": 0x1400}
    NOT_QUICK, BY_ROW = 1 << 63, 1 << 62

    def __init__(self, tree, mode):
        self.tree, self.mode, self.rows, self.known = tree, mode, [], {}

    def answers(self, bits):
        """What the trees are told, as a function from a shift to an answer."""
        wide, narrow = bits >> 10 & 1, bits >> 12 & 1
        known = {"rm": bits & 7, "reg": bits >> 3 & 7, "mod": int(bits >> 6 & 3 == 3), "pp": bits >> 8 & 3, "w": wide,
                 "rexb": bits >> 11 & 1, "osize": 2 if wide else 1 - narrow, "asize": 1 + self.mode, "l": 0}
        return {shift: known[dimension] for dimension, (shift, _, _) in DIMENSIONS.items()}.__getitem__

    def list_of(self, root):
        """Which bits matter, and where the list begins."""
        mask, bits, rows = 0, 0, []
        for dimension in self.tree.questions(root) & self.BITS.keys():
            mask |= self.BITS[dimension]
        while not rows or bits:
            rows.append(self.tree.ask(root, self.answers(bits)))
            bits = (bits | ~mask) + 1 & mask
        key = tuple(rows)
        if key not in self.known:
            self.known[key] = len(self.rows)
            self.rows += rows
        return mask, self.known[key]

    def cell(self, word, rows):
        """QuickCell of quick_decoder.cpp, of an opcode that the other ways know as this cell."""
        mask, at = self.list_of(word & 0xffffffff)
        small, usual, large = (word >> shift & 15 for shift in (32, 36, 40))
        by_row, any_mod = word >> 45 & 1, word >> 46 & 1
        simple = not any({"near", "stack"} & set(row.operation.traits) or
                         immediates_of(row)[1] != "none" or immediates_of(row)[0] == "address" for row in rows)
        quick = not any_mod and (not by_row or simple)
        if by_row:
            small = usual = large = 0
        return ((word >> 44 & 1) * 0x77 | usual << 8 | small << 12 | large << 16 | mask << 20 | at << 33 |
                (0 if quick else self.NOT_QUICK) | (self.NOT_QUICK | self.BY_ROW if by_row and quick else 0))
