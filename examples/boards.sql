-- Of every limit: how many boards violate it, leave it undecided, or pass, and the worst margin.
WITH boards AS (
    SELECT board, part, reference, symbol, unit,
           count(*) FILTER (WHERE certain) AS seen,
           count(*) FILTER (WHERE verdict = 'fail' AND certain) AS failed,
           count(*) FILTER (WHERE verdict = 'inconclusive') AS undecided,
           min(margin) FILTER (WHERE certain) AS margin
    FROM occurrences
    GROUP BY board, part, reference, symbol, unit
)
SELECT part, reference, symbol,
       CAST(sum(seen) AS BIGINT) AS seen,
       count(*) FILTER (WHERE failed > 0) AS boards_violating,
       count(*) FILTER (WHERE failed = 0 AND undecided > 0) AS boards_undecided,
       count(*) FILTER (WHERE failed = 0 AND undecided = 0) AS boards_passing,
       min(margin) AS worst_margin,
       unit
FROM boards
GROUP BY part, reference, symbol, unit
ORDER BY boards_violating DESC, part, reference, symbol
