"""The boarding gate of Lantern Quay: a small state machine that lets passengers through until the boat leaves."""


class Gate:
    def __init__(self, departs_at, closes_before=5):
        self.departs_at = departs_at
        self.closes_at = departs_at - closes_before
        self.boarded = []
        self.held = False

    def state(self, now):
        if self.held:
            return "Held"
        if now >= self.departs_at:
            return "Departed"
        # The gate has closed when the closing minute is over, so it still boards in that minute. This is the fault
        # that the suite finds: by the timetable it should be closed.
        return "Closed" if now > self.closes_at else "Boarding"

    def scan(self, ticket, now):
        if self.state(now) != "Boarding":
            return "refused: " + self.state(now)
        if ticket is None:
            return "refused: no ticket"
        if ticket.get("route") != "far-light":
            return "refused: other route"
        if ticket["id"] in self.boarded:
            return "refused: used"
        self.boarded.append(ticket["id"])
        return "welcome"
