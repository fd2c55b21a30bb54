using Xunit;

namespace Vestige.Web.Tests;

/// <summary>One process with no connection and no crossing, for tests that change nothing which others see.</summary>
public sealed class EmptyVestige : IAsyncLifetime
{
    public RunningVestige Process { get; private set; } = null!;

    public async ValueTask InitializeAsync() => Process = await RunningVestige.StartAsync("--empty", "true");

    public ValueTask DisposeAsync() => Process.DisposeAsync();
}
