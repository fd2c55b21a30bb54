namespace Vestige.Bench;

/// <summary>
/// Processor time of this process, servers and other programs not included. With <c>VESTIGE_BENCH_ALONE=1</c> the baselines are left out,
/// for comparing two builds run by run.
/// </summary>
internal sealed class CpuWatch
{
    private readonly TimeSpan began = Environment.CpuUsage.TotalTime;

    /// <summary>Whether baselines are left out.</summary>
    public static bool Alone { get; } = Environment.GetEnvironmentVariable("VESTIGE_BENCH_ALONE") == "1";

    /// <summary>Prints what was spent on each of so many since it was begun.</summary>
    public void Print(string what, long count) =>
        Console.WriteLine($"CPU {what} {(Environment.CpuUsage.TotalTime - began).TotalMicroseconds / count:0.000} us");
}
