# Somebody goes on at once; others edit around it; the stages to come are edited.
plan {"stages":[{"name":"staff","who":{"test":"segment","segment":"staff"},"least":"1d"},{"name":"8 %","share":80000,"least":"1d"},{"name":"30 %","share":300000}]}
1s look
2s look
1m next {"because":"staff tried it yesterday"}
2m look
3m look {"around":"b"}
4m edit {"stages":[{"name":"staff","who":{"test":"segment","segment":"staff"}},{"name":"8 %","share":90000}]}
5m edit {"stages":[{"name":"staff","who":{"test":"segment","segment":"staff"}},{"name":"8 %","share":80000,"least":"3m"},{"name":"50 %","share":500000}]}
6m look {"around":"b"}
7m hold {"because":"lunch"}
8m hold
9m next {"because":"after lunch"}
10m next
---
1s       look      began (serves): "staff" is on its way to the processes.
2s       look      arrived: "staff" for 1 s. Goes on in 1 day.
1m       next      stage (serves): 8 % of units is on its way to the processes.
2m       look      arrived: 8 % of units for 1 min. Goes on in 1 day.
3m       look      run: 8 % of units for 2 min. Goes on in 23 hours 59 min.
4m       edit      is refused: stage "8 %" has begun: whom it is for cannot be edited
5m       edit      edited: 8 % of units for 4 min. Goes on now.
6m       look      stage (serves): 50 % of units is on its way to the processes.
7m       hold      held: Held for a moment, with 50 % of units: "lunch". Nobody loses what they have.
8m       hold      is refused: it is held already
9m       next      is refused: it is in its last stage: finish it, or plan more stages
10m      next      is refused: it is in its last stage: finish it, or plan more stages
