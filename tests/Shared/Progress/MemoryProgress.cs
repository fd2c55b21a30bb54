using Vestige.Core.Positions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Tests.Shared;

/// <summary>The progress of crossings whose targets keep none, in memory.</summary>
public sealed class MemoryProgress : IProgressStore
{
    private readonly Dictionary<string, (long Term, TargetProgress Progress)> kept = [];

    public Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation) =>
        Task.FromResult(Of(crossing).Progress);

    public Task<IProgressSession> OpenProgressAsync(string crossing, long term, CancellationToken cancellation)
    {
        var (before, progress) = Of(crossing);
        if (term <= before)
        {
            throw new FencedException($"Term {before} is at work.") { Transient = true, Term = before };
        }

        kept[crossing] = (term, progress);
        return Task.FromResult<IProgressSession>(new Session(this, crossing, term, progress));
    }

    public Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        kept.Remove(crossing);
        return Task.CompletedTask;
    }

    private (long Term, TargetProgress Progress) Of(string crossing) =>
        kept.TryGetValue(crossing, out var found) ? found : (0, TargetProgress.None);

    private sealed class Session(MemoryProgress store, string crossing, long term, TargetProgress progress) : IProgressSession
    {
        public TargetProgress Progress { get; private set; } = progress;

        public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

        public Task SaveAsync(ProgressUpdate update, CancellationToken cancellation)
        {
            if (store.Of(crossing).Term != term)
            {
                throw new FencedException($"Term {store.Of(crossing).Term} has taken over from {term}.") { Transient = true };
            }

            Progress = Progress.With(update);
            store.kept[crossing] = (term, Stored(Progress));
            return Task.CompletedTask;
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;

        /// <summary>Offsets are kept with the identities of their logs, and without the numbers of branches.</summary>
        private static TargetProgress Stored(TargetProgress progress) =>
            progress with
            {
                Position = progress.Position?.On(0),
                Tables = [.. progress.Tables.Select(table => table with { Position = table.Position.On(0) })],
            };
    }
}
