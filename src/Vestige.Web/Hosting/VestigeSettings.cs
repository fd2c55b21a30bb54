namespace Vestige.Web.Hosting;

/// <summary>How the process was started.</summary>
/// <param name="DataFolder">Where everything is kept.</param>
/// <param name="KeyFolder">Where the keys that protect it are kept: not inside the data folder.</param>
/// <param name="WithDemo">Whether an empty data folder is filled with the demo.</param>
/// <param name="DemoLoans">How many loans the demo begins with.</param>
/// <param name="SpoolBudget">The most a spool may hold, in bytes.</param>
/// <param name="EventDays">For how many days events are kept.</param>
/// <param name="Port">Where it listens, on loopback.</param>
/// <param name="PublicOrigin">
/// The origin under which browsers reach it through a proxy, as https://vestige.county.example; null without one.
/// </param>
/// <param name="AllowsLocalCalls">Whether webhooks and mail may go to Vestige's own address and to link-local ones.</param>
/// <param name="CertificateFolder">The only folder from which certificates of authorities are read; null for none.</param>
/// <param name="WithDemoStates">Whether the demo has crossings in unlike states beside its first two.</param>
public sealed record VestigeSettings(
    string DataFolder,
    string KeyFolder,
    bool WithDemo,
    int DemoLoans,
    long SpoolBudget,
    int EventDays,
    int Port,
    string? PublicOrigin = null,
    bool AllowsLocalCalls = false,
    string? CertificateFolder = null,
    bool WithDemoStates = false
)
{
    /// <summary>Of the data protection key ring.</summary>
    public const string ApplicationName = "vestige";

    /// <summary>The most fields of one form: a tick for each of thousands of tables.</summary>
    public const int MostFields = 20_000;

    private const long LeastBudget = 1 << 20;

    /// <summary>Where its pages are.</summary>
    public string Address => $"http://127.0.0.1:{Port}";

    public string StorePath => Path.Combine(DataFolder, "vestige.db");

    /// <summary>The file of a connection whose system Vestige keeps itself.</summary>
    /// <param name="folder">The folder of its kind, within the data folder.</param>
    /// <param name="connection">The connection's name.</param>
    public string FileOf(string folder, string connection) => Path.Combine(DataFolder, folder, connection + ".db");

    public string SpoolFolder(string connection) => Path.Combine(DataFolder, "spool", connection);

    /// <summary>Reads how the process is started. Throws <see cref="InvalidOperationException"/> for a value that cannot be.</summary>
    public static VestigeSettings From(IConfiguration configuration)
    {
        ArgumentNullException.ThrowIfNull(configuration);
        var data = Path.GetFullPath(configuration["data"] ?? "data");
        var home = Environment.GetFolderPath(Environment.SpecialFolder.UserProfile);
        var keys = Path.GetFullPath(configuration["keys"] ?? Path.Combine(home, ".vestige", "keys"));
        return new VestigeSettings(
            data,
            keys,
            !configuration.GetValue("empty", false),
            configuration.GetValue("demo-loans", 200_000),
            Budget(configuration),
            configuration.GetValue("event-days", 730),
            configuration.GetValue("port", 5080),
            configuration["public-origin"]?.TrimEnd('/'),
            configuration.GetValue("allow-local-calls", false),
            configuration["ca-folder"] is { Length: > 0 } folder ? Path.GetFullPath(folder) : null,
            configuration.GetValue("demo-states", true)
        );
    }

    private static long Budget(IConfiguration configuration)
    {
        var bytes = configuration.GetValue("spool-budget", 4L << 30);
        return bytes >= LeastBudget
            ? bytes
            : throw new InvalidOperationException(
                $"A spool of {bytes} bytes holds too little: give --spool-budget at least {LeastBudget}."
            );
    }
}
