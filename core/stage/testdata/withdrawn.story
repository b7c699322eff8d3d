plan {"begin":3600000,"stages":[{"name":"8 %","share":80000}]}
1m finish
2m hold {"because":"not yet"}
3m go-on
4m roll-back
---
1m       finish    is refused: nothing of it has begun: withdraw it with a roll back
2m       hold      held: Held for a moment: "not yet". Nobody loses what they have.
3m       go-on     went-on: Begins at 2026-11-30T09:00:00Z.
4m       roll-back withdrawn: Withdrawn before it began, at 2026-11-30T08:04:00Z.
