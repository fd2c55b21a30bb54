using System.Buffers.Text;
using System.Security.Cryptography;
using System.Text;
using System.Text.Json;

namespace Vestige.Web.Hosting;

/// <summary>
/// Signs summaries with a key of this data folder: ES256, as a JWS in its flattened JSON form (RFC 7515, 7.2.2) whose header carries
/// the public key as a JWK (RFC 7517), with what was signed beside it for reading.
/// </summary>
public sealed class SummarySigner : IDisposable
{
    private static readonly JsonSerializerOptions Indented = new(JsonSerializerDefaults.Web) { WriteIndented = true };
    private readonly ECDsa key;

    private SummarySigner(ECDsa key) => this.key = key;

    /// <param name="key">The private key in PKCS #8.</param>
    public static SummarySigner Of(byte[] key)
    {
        var made = ECDsa.Create();
        made.ImportPkcs8PrivateKey(key, out _);
        return new SummarySigner(made);
    }

    /// <summary>The summary and its signature, as JSON in UTF-8. Safe for several threads.</summary>
    public byte[] Sign(object summary)
    {
        var payload = Base64Url.EncodeToString(JsonSerializer.SerializeToUtf8Bytes(summary, JsonSerializerOptions.Web));
        var parameters = key.ExportParameters(includePrivateParameters: false);
        var jwk = new
        {
            kty = "EC",
            crv = "P-256",
            x = Base64Url.EncodeToString(parameters.Q.X),
            y = Base64Url.EncodeToString(parameters.Q.Y),
        };
        var header = Base64Url.EncodeToString(JsonSerializer.SerializeToUtf8Bytes(new { alg = "ES256", jwk }, JsonSerializerOptions.Web));
        var signature = Base64Url.EncodeToString(
            key.SignData(
                Encoding.ASCII.GetBytes($"{header}.{payload}"),
                HashAlgorithmName.SHA256,
                DSASignatureFormat.IeeeP1363FixedFieldConcatenation
            )
        );
        return JsonSerializer.SerializeToUtf8Bytes(
            new
            {
                summary,
                payload,
                @protected = header,
                signature,
            },
            Indented
        );
    }

    public void Dispose() => key.Dispose();
}
