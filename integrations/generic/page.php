<?php
// The first line of a page: require 'page.php';
// The page leaves with the lightest pictures named. Whatever goes wrong, it leaves as it was written.
// Needs PLUMCRATE_URL, PLUMCRATE_LIBRARY and PLUMCRATE_KEY, a key that may look, in the environment.

function plumcrate_page(string $html): string
{
    foreach (headers_list() as $header) {
        if (stripos($header, 'content-type:') === 0 && stripos($header, 'text/html') === false) {
            return $html;
        }
    }
    $address = getenv('PLUMCRATE_URL') . '/api/v1/libraries/' . rawurlencode((string) getenv('PLUMCRATE_LIBRARY'))
        . '/page?address=' . rawurlencode($_SERVER['REQUEST_URI'] ?? '/');
    $request = stream_context_create(['http' => [
        'method' => 'POST',
        'header' => "Content-Type: text/html\r\nAuthorization: Bearer " . getenv('PLUMCRATE_KEY'),
        'content' => $html,
        'timeout' => 2.0,
    ]]);
    $light = @file_get_contents($address, false, $request);
    return $light === false || $light === '' ? $html : $light;
}

ob_start('plumcrate_page');
