namespace Vestige.Core.Loading;

/// <summary>Chunks given to workers, and when the last worker ends.</summary>
/// <param name="Workers">For each worker the indexes of its chunks, in the order of work.</param>
/// <param name="Makespan">The planned finish, in the unit of the costs.</param>
public sealed record LoadPlan(IReadOnlyList<IReadOnlyList<int>> Workers, double Makespan)
{
    /// <summary>
    /// Gives the longest chunk first, each to the worker that is free first. The finish is at most 4/3 − 1/(3k) of the best
    /// possible one for k workers (R. L. Graham, "Bounds on multiprocessing timing anomalies", SIAM J. Appl. Math. 17, 1969).
    /// </summary>
    public static LoadPlan LongestFirst(IReadOnlyList<double> costs, int workers)
    {
        ArgumentNullException.ThrowIfNull(costs);
        ArgumentOutOfRangeException.ThrowIfLessThan(workers, 1);
        var lists = Enumerable.Range(0, workers).Select(_ => new List<int>()).ToArray();
        var free = new PriorityQueue<int, (double, int)>();
        for (var worker = 0; worker < workers; worker++)
        {
            free.Enqueue(worker, (0, worker));
        }

        var makespan = 0.0;
        foreach (var chunk in Enumerable.Range(0, costs.Count).OrderByDescending(i => costs[i]).ThenBy(i => i))
        {
            free.TryDequeue(out var worker, out var since);
            lists[worker].Add(chunk);
            var until = since.Item1 + costs[chunk];
            makespan = Math.Max(makespan, until);
            free.Enqueue(worker, (until, worker));
        }

        return new LoadPlan(lists, makespan);
    }

    /// <summary>Graham's bound on makespan / best makespan for that many workers.</summary>
    public static double Bound(int workers) => (4.0 / 3) - (1.0 / (3 * workers));
}
