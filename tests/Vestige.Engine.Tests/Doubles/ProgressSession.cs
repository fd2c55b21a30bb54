using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>A hold on a progress that nobody else has.</summary>
public sealed class ProgressSession(TargetProgress progress) : IProgressSession
{
    public TargetProgress Progress { get; private set; } = progress;

    public int Commits { get; private set; }

    public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

    public Task SaveAsync(ProgressUpdate update, CancellationToken cancellation)
    {
        Progress = Progress.With(update);
        Commits++;
        return Task.CompletedTask;
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}
