namespace Vestige.Connectors.PostgreSql;

/// <summary>How a connection is encrypted.</summary>
public enum TlsMode
{
    /// <summary>Never.</summary>
    Off,

    /// <summary>When the server offers it; its certificate is not looked at.</summary>
    Prefer,

    /// <summary>Always; its certificate is not looked at.</summary>
    Require,

    /// <summary>Always, and the server's certificate must be signed by the given authority and name the host.</summary>
    Verify,
}
