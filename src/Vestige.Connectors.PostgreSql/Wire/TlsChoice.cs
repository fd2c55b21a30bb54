using System.Net.Security;
using System.Security.Cryptography.X509Certificates;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>What a connection's way of encrypting asks of the server's certificate.</summary>
internal static class TlsChoice
{
    public static SslClientAuthenticationOptions OptionsOf(PostgreSqlSettings settings)
    {
        var options = new SslClientAuthenticationOptions { TargetHost = settings.Host };
        if (settings.Tls != TlsMode.Verify)
        {
            // "prefer" and "require" mean exactly this: encrypted, the certificate not looked at; the page says so.
#pragma warning disable CA5359, MA0039
            options.RemoteCertificateValidationCallback = (_, _, _, _) => true;
#pragma warning restore CA5359, MA0039
        }
        else if (settings.CaFile is { } file)
        {
            var policy = new X509ChainPolicy
            {
                TrustMode = X509ChainTrustMode.CustomRootTrust,
                RevocationMode = X509RevocationMode.NoCheck,
            };
            policy.CustomTrustStore.ImportFromPemFile(file);
            options.CertificateChainPolicy = policy;
        }

        return options;
    }
}
